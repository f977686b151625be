-- Until when the certificate holds by which a node speaks TLS.
ALTER TABLE node ADD COLUMN certificate_until timestamptz;
-- Older nodes know no listeners over TLS.
UPDATE migration_floor SET migration = '0033_node_certificate';
