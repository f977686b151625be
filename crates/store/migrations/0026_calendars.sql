-- The events of calendars that are read from where they are kept: as they were read at last, since
-- when they stand so, and when they were looked at.
CREATE TABLE calendar_text (
    name    text        PRIMARY KEY,
    text    text        NOT NULL,
    read_at timestamptz NOT NULL,
    seen_at timestamptz NOT NULL
);
ALTER TABLE timer DROP CONSTRAINT timer_kind_word;
ALTER TABLE timer ADD CONSTRAINT timer_kind_word CHECK (kind IN ('schedule', 'plan', 'calendar'));
-- Older nodes cannot handle the times of calendars.
UPDATE migration_floor SET migration = '0026_calendars';
