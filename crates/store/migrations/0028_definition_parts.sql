-- The shared steps that a version of a runbook was published with, by name: version and text.
ALTER TABLE definition ADD COLUMN parts jsonb NOT NULL DEFAULT '{}';
-- Older nodes know neither shared steps nor the runbooks that use them.
UPDATE migration_floor SET migration = '0028_definition_parts';
