-- What each source sent of one kind, as `core::shape` has it; the kind is empty for what was caught. Each node adds what it saw.
CREATE TABLE shape (
    source  text NOT NULL,
    kind    text NOT NULL,
    profile jsonb NOT NULL,
    last_at timestamptz NOT NULL,
    PRIMARY KEY (source, kind)
);
-- A payload is caught while its source does not say how it is read. What is no text is kept in base64 (RFC 4648, section 4).
ALTER TABLE unreadable ADD COLUMN caught boolean NOT NULL DEFAULT false;
ALTER TABLE unreadable ADD COLUMN base64 boolean NOT NULL DEFAULT false;
-- Older nodes would refuse what is to be caught.
UPDATE migration_floor SET migration = '0034_shapes';
