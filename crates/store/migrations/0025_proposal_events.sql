-- Events of proposals: the rules through whose jobs' events one came to be, and the trace of the alert
-- that it is for.
ALTER TABLE proposal ADD COLUMN chain jsonb;
ALTER TABLE proposal ADD COLUMN trace text;
