-- The last calls of each connection: which operation, for which step or person, how long it took and how it ended.
CREATE TABLE call (
    id         bigint      GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    connection text        NOT NULL,
    operation  text        NOT NULL,
    job_id     bigint,
    place      text,
    attempt    int,
    -- Who called it by hand.
    by         text,
    at         timestamptz NOT NULL,
    millis     int         NOT NULL,
    -- `done`, `not-sent`, `refused`, `unknown`, `useless`, `later`.
    ended      text        NOT NULL,
    -- What went wrong.
    message    text
);
CREATE INDEX call_of ON call (connection, id);
CREATE INDEX call_at ON call (at);
