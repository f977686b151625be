-- In which order the keys of a payload came; nothing where that is how they are kept. Nobody is kept waiting for the lock:
-- who cannot have it soon tries again.
SET LOCAL lock_timeout = '3s';
ALTER TABLE alerts ADD COLUMN key_order text;
