-- What is remembered of the last look of a source whose messages are fetched: by what it is looked,
-- which tells it from another that remembers something else, and when that was.
CREATE TABLE poll_cursor (
    source    text        PRIMARY KEY,
    spec      text        NOT NULL,
    cursor    jsonb       NOT NULL,
    looked_at timestamptz NOT NULL
);
ALTER TABLE timer DROP CONSTRAINT timer_kind_word;
ALTER TABLE timer ADD CONSTRAINT timer_kind_word CHECK (kind IN ('schedule', 'plan', 'calendar', 'poll'));
-- Older nodes cannot handle the times of these sources.
UPDATE migration_floor SET migration = '0029_poll_cursor';
