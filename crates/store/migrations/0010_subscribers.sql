-- Those to whom events of jobs and decisions leave, as far as they are not written in a document.
CREATE TABLE subscriber (
    name         text        PRIMARY KEY,
    address      text        NOT NULL,
    -- When the address was asked whether it wants events, and when it agreed; until then none is sent.
    asked_at     timestamptz,
    confirmed_at timestamptz,
    -- It has said that it wants no more.
    gone         boolean     NOT NULL DEFAULT false,
    -- Most requests a minute that it wants.
    rate         int,
    -- It is left alone until then; after so many tries in a row that failed, the last of them so.
    next_at      timestamptz NOT NULL DEFAULT now(),
    failures     int         NOT NULL DEFAULT 0,
    failure      text,
    delivered    bigint      NOT NULL DEFAULT 0,
    delivered_at timestamptz,
    -- Events that were not kept for it, since too many waited.
    left_out     bigint      NOT NULL DEFAULT 0
);

-- Events on their way to one of them: `waiting`, `delivered`, `given-up`.
CREATE TABLE outgoing (
    number     bigint      GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    subscriber text        NOT NULL,
    event_id   text        NOT NULL,
    event      jsonb       NOT NULL,
    state      text        NOT NULL DEFAULT 'waiting',
    -- Since when it waits; a replay begins anew.
    queued_at  timestamptz NOT NULL DEFAULT now(),
    tries      int         NOT NULL DEFAULT 0,
    next_at    timestamptz NOT NULL DEFAULT now(),
    -- Somebody sends it; if that takes longer, another may.
    taken      timestamptz,
    status     int,
    failure    text,
    ended_at   timestamptz,
    UNIQUE (subscriber, event_id)
);
CREATE INDEX outgoing_waiting ON outgoing (subscriber, number) WHERE state = 'waiting';
CREATE INDEX outgoing_ended ON outgoing (subscriber, state, number) WHERE state <> 'waiting';
