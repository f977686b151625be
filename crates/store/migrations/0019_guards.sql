-- Guards: what holds a job back, what was overruled for it, and what guards count.
ALTER TABLE job ADD COLUMN held jsonb;
ALTER TABLE job ADD COLUMN held_look timestamptz;
ALTER TABLE job ADD COLUMN overruled jsonb;
CREATE INDEX job_held ON job ((held ->> 'guard'), urgency DESC, deadline, id)
    WHERE state = 'queued' AND held IS NOT NULL;
-- Each job that a guard concerns, from its beginning on, for as long as the guard looks back.
CREATE TABLE guard_use (
    guard    text        NOT NULL,
    job_id   bigint      NOT NULL,
    runbook  text        NOT NULL,
    target   text        NOT NULL,
    amount   double precision,
    begun_at timestamptz NOT NULL,
    open     boolean     NOT NULL DEFAULT true,
    ended_at timestamptz,
    failed   boolean     NOT NULL DEFAULT false,
    PRIMARY KEY (guard, job_id)
) WITH (fillfactor=80, autovacuum_vacuum_scale_factor=0.05);
CREATE INDEX guard_use_open ON guard_use (guard) WHERE open;
CREATE INDEX guard_use_begun ON guard_use (guard, begun_at);
CREATE INDEX guard_use_failed ON guard_use (guard, ended_at) WHERE failed;
CREATE INDEX guard_use_old ON guard_use (begun_at);
-- By which versions of a guard and its group its jobs were counted.
CREATE TABLE guard_counted (
    guard         text PRIMARY KEY,
    version       int  NOT NULL,
    group_version int  NOT NULL
);
-- Circuits that opened, by guard and runbook, and who said that they go on.
CREATE TABLE circuit (
    guard      text        NOT NULL,
    runbook    text        NOT NULL,
    open       boolean     NOT NULL,
    since      timestamptz NOT NULL,
    failures   int         NOT NULL,
    resumed_at timestamptz,
    PRIMARY KEY (guard, runbook)
);
-- What a guard lets not begin at a time is a verdict.
ALTER TABLE verdicts DROP CONSTRAINT verdicts_verdict_word;
ALTER TABLE verdicts ADD CONSTRAINT verdicts_verdict_word CHECK (verdict IN ('dispatched', 'proposed', 'watched', 'idle', 'folded',
    'waiting', 'resting', 'capped', 'flapping', 'muted', 'frozen', 'symptom', 'broken')) NOT VALID;
-- Older nodes would begin what is held.
UPDATE migration_floor SET migration = '0019_guards';
