-- Trials: alerts that somebody made up, and what follows from them. An alarm of trials is another
-- than the real one of the same name; verdicts of trials are counted nowhere; a job tells whether
-- it acts. Older nodes would count them, and act for them.
ALTER TABLE alerts ADD COLUMN trial text;
ALTER TABLE alerts ADD CONSTRAINT alerts_trial_word CHECK (trial IN ('dry', 'acting')) NOT VALID;
ALTER TABLE verdicts ADD COLUMN trial boolean NOT NULL DEFAULT false;
ALTER TABLE alarm ADD COLUMN trial boolean NOT NULL DEFAULT false;
ALTER TABLE alarm DROP CONSTRAINT alarm_source_resource_kind_key;
ALTER TABLE alarm ADD UNIQUE (source, resource, kind, trial);
ALTER TABLE job ADD COLUMN trial text;
ALTER TABLE job ADD CONSTRAINT job_trial_word CHECK (trial IN ('dry', 'acting')) NOT VALID;
ALTER TABLE proposal ADD COLUMN trial text;
ALTER TABLE proposal ADD CONSTRAINT proposal_trial_word CHECK (trial IN ('dry', 'acting')) NOT VALID;
-- What is cleared away, and ends by itself.
CREATE INDEX alerts_trial ON alerts (seq) WHERE trial IS NOT NULL;
CREATE INDEX alarm_trial ON alarm (id) WHERE trial;
CREATE INDEX job_trial ON job (id) WHERE trial IS NOT NULL;
UPDATE migration_floor SET migration = '0018_trials';
