-- What is told of a change of a job is worked out where it is read (`core/job/transition`): noted is
-- what changed.
ALTER TABLE job_change ADD COLUMN was text CONSTRAINT job_change_was_word CHECK (was IN ('queued', 'running', 'waiting',
        'paused', 'succeeded', 'failed', 'cancelled', 'expired', 'refused', 'unsure')),
    ADD COLUMN begins boolean NOT NULL DEFAULT false,
    ADD COLUMN resumed boolean NOT NULL DEFAULT false;
-- What was noted in words and has not been told yet.
UPDATE job_change SET was = CASE word WHEN 'queued' THEN NULL WHEN 'started' THEN 'queued' WHEN 'resumed' THEN 'paused'
        WHEN 'resolved' THEN 'unsure' ELSE 'running' END,
    resumed = word = 'resumed';
ALTER TABLE job_change DROP COLUMN word;
