-- A try belongs to a step by its place in the tree of steps, and not by a number. What was tried before keeps its number
-- as `#n`, until somebody who knows the runbook reads it.
ALTER TABLE attempt ADD COLUMN place text;
UPDATE attempt SET place = '#' || step;
ALTER TABLE attempt DROP CONSTRAINT attempt_pkey;
ALTER TABLE attempt DROP COLUMN step;
ALTER TABLE attempt ADD PRIMARY KEY (job_id, place, attempt);

-- What lists and claims ask of a job stands in columns of its own; nothing but the job's walk reads its progress.
ALTER TABLE job ADD COLUMN begun boolean NOT NULL DEFAULT false;
ALTER TABLE job ADD COLUMN steps_done int NOT NULL DEFAULT 0;
ALTER TABLE job ADD COLUMN steps int NOT NULL DEFAULT 0;
ALTER TABLE job ADD COLUMN doing text NOT NULL DEFAULT '';
ALTER TABLE job ADD COLUMN waits_for_alarm boolean NOT NULL DEFAULT false;
-- What a person says to a job, until its walk has heard it.
ALTER TABLE job ADD COLUMN word jsonb;
ALTER TABLE job ADD COLUMN word_number int NOT NULL DEFAULT 0;
UPDATE job SET begun = progress ->> 'started' IS NOT NULL, steps_done = coalesce((progress ->> 'step')::int, 0),
    waits_for_alarm = progress -> 'phase' ? 'confirming';

-- A job that a person holds keeps its target.
DROP INDEX job_target;
CREATE UNIQUE INDEX job_target ON job (target) WHERE state IN ('running', 'waiting', 'paused', 'unsure');
CREATE INDEX job_word ON job (id) WHERE word IS NOT NULL AND state IN ('paused', 'unsure');

-- Who launched a job by hand, and under which key, so that the same launch sent twice makes one job.
ALTER TABLE job ADD COLUMN launched_by text;
ALTER TABLE job ADD COLUMN launch_key text;
CREATE UNIQUE INDEX job_launch ON job (launched_by, launch_key) WHERE launch_key IS NOT NULL;
