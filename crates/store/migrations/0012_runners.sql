-- What makes calls near where they go. A token is for one runner; of it only a digest is kept.
CREATE TABLE runner (
    name         text             PRIMARY KEY,
    labels       jsonb            NOT NULL,
    hash         bytea            NOT NULL UNIQUE,
    added_at     timestamptz      NOT NULL DEFAULT now(),
    added_by     principal        NOT NULL,
    -- As it was last heard of.
    seen         timestamptz,
    serves       jsonb,
    build        text,
    at_once      integer,
    clock_offset double precision
);

-- Numbers of calls. Unlike the calls themselves it is never forgotten: none comes twice.
CREATE SEQUENCE runner_call_number;

-- Calls that nodes want made by runners. A node renews what it wants while it waits for it; nothing
-- is begun that nobody wants any more. What is gone with the database was begun perhaps: whoever
-- waits for it takes it for unknown, so that this need not outlive the database.
CREATE UNLOGGED TABLE runner_call (
    id           bigint           PRIMARY KEY,
    through      jsonb            NOT NULL,
    sealed       bytea            NOT NULL,
    -- For which step, so that what it writes meanwhile is shown.
    job_id       bigint,
    place        text,
    attempt      integer,
    state        text             NOT NULL DEFAULT 'waiting'
        CONSTRAINT runner_call_state_word CHECK (state IN ('waiting', 'claimed', 'begun', 'ended')),
    wanted_until timestamptz      NOT NULL,
    runner       text,
    claim        text,
    lease_until  timestamptz,
    result       bytea
);
CREATE INDEX runner_call_to_claim ON runner_call (id) WHERE state IN ('waiting', 'claimed');
