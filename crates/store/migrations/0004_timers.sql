-- What waits for a time and has no row of its own: of each kind a key, and the time that is waited
-- for. `spec` is what that was worked out from, `generation` what was published then; a node that
-- has not heard of a later publication changes nothing. Whoever handles one holds it until
-- `held_until`; one that could not be handled waits until then as well.
CREATE TABLE timer (
    kind        text        NOT NULL CONSTRAINT timer_kind_word CHECK (kind IN ('schedule')),
    key         text        NOT NULL,
    spec        text        NOT NULL,
    generation  bigint      NOT NULL,
    due         timestamptz NOT NULL,
    held_until  timestamptz,
    failures    integer     NOT NULL DEFAULT 0,
    failure     text,
    PRIMARY KEY (kind, key)
);
CREATE INDEX timer_due ON timer (due);
