-- What an intake offered to expressions beside the body, as the headers: a line that is mended may ask for it. Null for what was
-- kept before.
ALTER TABLE unreadable ADD COLUMN beside jsonb;

-- Counts of deliveries are asked for by time, of all sources.
CREATE INDEX delivery_count_minute ON delivery_count (minute);
