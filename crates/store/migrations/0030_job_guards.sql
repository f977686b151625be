-- Which guards let a job begin stands on the job, by the version of each; `guard_use` has only what
-- outlives it: when jobs began that are counted within a time, how much of an input they used, and what
-- failed. What is under way when another version of a guard comes has an open row.
ALTER TABLE job ADD COLUMN guards text[];
CREATE INDEX job_guarded ON job (id) WHERE guards IS NOT NULL AND state IN ('running', 'waiting', 'paused', 'unsure');
DROP TABLE guard_use;
CREATE TABLE guard_use (
    counted_as text        NOT NULL,
    job_id     bigint      NOT NULL,
    runbook    text        NOT NULL,
    target     text        NOT NULL,
    amount     double precision,
    begun_at   timestamptz NOT NULL,
    open       boolean     NOT NULL DEFAULT false,
    ended_at   timestamptz,
    failed     boolean     NOT NULL DEFAULT false,
    PRIMARY KEY (counted_as, job_id)
) WITH (fillfactor=80, autovacuum_vacuum_scale_factor=0.05);
CREATE INDEX guard_use_open ON guard_use (counted_as) WHERE open;
CREATE INDEX guard_use_begun ON guard_use (counted_as, begun_at);
CREATE INDEX guard_use_failed ON guard_use (counted_as, ended_at) WHERE failed;
CREATE INDEX guard_use_old ON guard_use (begun_at) WHERE NOT open;
-- All is counted anew by whoever asks first.
DELETE FROM guard_counted;
ALTER TABLE guard_counted ADD COLUMN counted_as text NOT NULL;
-- Older nodes would count nobody's jobs.
UPDATE migration_floor SET migration = '0030_job_guards';
