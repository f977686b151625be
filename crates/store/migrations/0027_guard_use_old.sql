-- What guards look back at is removed by its age once it is over; what is under way is in no need of
-- that index, and most of it is removed as soon as it is over.
DROP INDEX guard_use_old;
CREATE INDEX guard_use_old ON guard_use (begun_at) WHERE NOT open;
