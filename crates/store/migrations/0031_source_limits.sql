-- Deliveries that were refused or had to wait, since their source sent more than its limit.
ALTER TABLE delivery_count ADD COLUMN over_limit bigint NOT NULL DEFAULT 0;
-- Older nodes cannot read sources with a limit, and would leave these out where counts are gathered.
UPDATE migration_floor SET migration = '0031_source_limits';
