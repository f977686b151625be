-- What a try sends outside, as it is sent: without its address, its credential and any secret.
ALTER TABLE attempt ADD COLUMN request jsonb;
