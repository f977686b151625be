-- What runs of runbooks remember for those that come after them on the same target: each time all
-- of it. The newest row of a runbook and a target is what stands, those before are its history.
CREATE TABLE memory (
    number     bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    runbook    text        NOT NULL,
    target     text        NOT NULL,
    job_id     bigint      NOT NULL,
    place      text        NOT NULL,
    remembered jsonb       NOT NULL,
    at         timestamptz NOT NULL,
    UNIQUE (job_id, place)
);
CREATE INDEX memory_of ON memory (runbook, target, number DESC);
