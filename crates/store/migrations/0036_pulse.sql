-- Connections by which somebody outside hears that Arvok does its work: when the next call is due.
ALTER TABLE timer DROP CONSTRAINT timer_kind_word;
ALTER TABLE timer ADD CONSTRAINT timer_kind_word CHECK (kind IN ('schedule', 'plan', 'calendar', 'poll', 'pulse'));
-- Older nodes do not know what such a time is for.
UPDATE migration_floor SET migration = '0036_pulse';
