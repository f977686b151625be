-- Plans: their times are timers, their runs are jobs that a plan launched, and each time at which
-- one does not run is written down.
ALTER TABLE timer DROP CONSTRAINT timer_kind_word;
ALTER TABLE timer ADD CONSTRAINT timer_kind_word CHECK (kind IN ('schedule', 'plan'));
ALTER DOMAIN principal DROP CONSTRAINT principal_kind;
ALTER DOMAIN principal ADD CONSTRAINT principal_kind CHECK (VALUE ~ '^(token|link|mail|node|plan|stranger)/.');
CREATE TABLE plan_omission (
    plan   text        NOT NULL,
    due    timestamptz NOT NULL,
    why    text        NOT NULL CONSTRAINT plan_omission_why_word
        CHECK (why IN ('skipped', 'missed', 'overlapped', 'muted', 'refused')),
    reason text        NOT NULL,
    by     principal   NOT NULL,
    at     timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (plan, due)
);
CREATE INDEX plan_omission_due ON plan_omission (due);
-- Older nodes cannot read jobs of plans, nor handle their times.
UPDATE migration_floor SET migration = '0022_plans';
