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

-- Who looks for what is due looks at that alone, however many jobs there were.
CREATE INDEX job_waking ON job (wake_at) WHERE state = 'waiting';
CREATE INDEX job_running ON job (lease_until) WHERE state = 'running';

-- Who launched a job by hand, and under which key, so that the same launch sent twice makes one job.
ALTER TABLE job ADD COLUMN launched_by text;
ALTER TABLE job ADD COLUMN launch_key text;
CREATE UNIQUE INDEX job_launch ON job (launched_by, launch_key) WHERE launch_key IS NOT NULL;

-- Nodes of the release before go on taking alerts in, and make jobs without these columns.
CREATE FUNCTION job_filled() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    NEW.begun := coalesce(NEW.begun, false);
    NEW.steps_done := coalesce(NEW.steps_done, 0);
    NEW.steps := coalesce(NEW.steps, 0);
    NEW.doing := coalesce(NEW.doing, '');
    NEW.waits_for_alarm := coalesce(NEW.waits_for_alarm, false);
    NEW.word_number := coalesce(NEW.word_number, 0);
    NEW.claims := coalesce(NEW.claims, 0);
    RETURN NEW;
END $$;
CREATE TRIGGER job_filled BEFORE INSERT ON job FOR EACH ROW EXECUTE FUNCTION job_filled();

-- They cannot walk jobs any more, and claim none: whoever claims a job counts its claims.
ALTER TABLE job ADD COLUMN claims int NOT NULL DEFAULT 0;
CREATE FUNCTION job_claimed() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RETURN NULL; END $$;
CREATE TRIGGER job_claimed BEFORE UPDATE OF claim ON job FOR EACH ROW
    WHEN (NEW.claim IS NOT NULL AND NEW.claim IS DISTINCT FROM OLD.claim AND NEW.claims = OLD.claims)
    EXECUTE FUNCTION job_claimed();
