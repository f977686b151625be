-- Claims, generations, bounds: what several nodes, deaths and floods ask for. All of it is added
-- beside what stands, so that nodes of before go on while this is brought in.

-- Rows that are written again and again leave room for it on their page.
ALTER TABLE alarm SET (fillfactor = 70, autovacuum_vacuum_scale_factor = 0.05);
ALTER TABLE tally SET (fillfactor = 70, autovacuum_vacuum_scale_factor = 0.05);
ALTER TABLE pool SET (fillfactor = 70, autovacuum_vacuum_scale_factor = 0.05);
ALTER TABLE job SET (fillfactor = 80, autovacuum_vacuum_scale_factor = 0.05);

-- The keys of outward calls begin with it, so that no two installations send the same.
CREATE TABLE installation (
    one boolean PRIMARY KEY DEFAULT true CHECK (one),
    id  uuid    NOT NULL DEFAULT gen_random_uuid()
);
INSERT INTO installation DEFAULT VALUES;

-- A job is held by the number of its claim.
CREATE SEQUENCE claim_number;
ALTER TABLE job ADD COLUMN claim bigint;
-- How often its lease ran out since it last came a step further.
ALTER TABLE job ADD COLUMN lapses int NOT NULL DEFAULT 0;

-- Counts up with everything published, withdrawn or sealed; what a node knows is compared with it.
CREATE TABLE catalog (
    one        boolean PRIMARY KEY DEFAULT true CHECK (one),
    generation bigint  NOT NULL
);
INSERT INTO catalog (generation) VALUES (1);
CREATE FUNCTION catalog_changed() RETURNS trigger LANGUAGE plpgsql AS
    'BEGIN UPDATE catalog SET generation = generation + 1; RETURN NULL; END';
CREATE TRIGGER definition_changed AFTER INSERT OR UPDATE OR DELETE ON definition
    FOR EACH STATEMENT EXECUTE FUNCTION catalog_changed();
CREATE TRIGGER secret_changed AFTER INSERT OR UPDATE OR DELETE ON secret
    FOR EACH STATEMENT EXECUTE FUNCTION catalog_changed();

-- A version that ends a definition; its text is that of the version before.
ALTER TABLE definition ADD COLUMN withdrawn boolean NOT NULL DEFAULT false;

-- Where a secret may go: `connection/name`, `source/name`. Those of before may go where they are
-- named today.
ALTER TABLE secret ADD COLUMN allowed text[] NOT NULL DEFAULT '{}';
UPDATE secret SET allowed = coalesce((
    SELECT array_agg(DISTINCT d.kind || '/' || d.name) FROM definition d
    WHERE d.kind IN ('source', 'connection')
        AND d.version = (SELECT max(n.version) FROM definition n WHERE n.kind = d.kind AND n.name = d.name)
        AND d.text ~ ('secret\(\s*[''"]' || secret.name || '[''"]\s*\)')), '{}');

-- What is due and cannot be handled is set aside, and tried again at the time of `due`.
ALTER TABLE tally ADD COLUMN aside text;
ALTER TABLE tally ADD COLUMN aside_tries int NOT NULL DEFAULT 0;
ALTER TABLE pool ADD COLUMN aside text;
ALTER TABLE pool ADD COLUMN aside_tries int NOT NULL DEFAULT 0;
CREATE INDEX tally_aside ON tally (rule) WHERE aside IS NOT NULL;
CREATE INDEX pool_aside ON pool (rule) WHERE aside IS NOT NULL;

-- A proposal's decision is remembered by the tallies that it came from.
ALTER TABLE proposal ADD COLUMN first_id bigint;
ALTER TABLE proposal ADD COLUMN tallies text[] NOT NULL DEFAULT '{}';

-- Deliveries by minute, in several rows beside each other, so that batches do not wait for a row.
CREATE TABLE delivery_count (
    source     text        NOT NULL,
    minute     timestamptz NOT NULL,
    shard      smallint    NOT NULL,
    alerts     bigint      NOT NULL DEFAULT 0,
    repeated   bigint      NOT NULL DEFAULT 0,
    unreadable bigint      NOT NULL DEFAULT 0,
    PRIMARY KEY (source, minute, shard)
);

-- What retention walks.
CREATE INDEX unreadable_received ON unreadable (received);
CREATE INDEX alarm_over ON alarm (changed_at) WHERE state = 'cleared';
CREATE INDEX job_ended ON job (finished_at) WHERE finished_at IS NOT NULL;
DELETE FROM pool WHERE state IS NULL;

-- The nodes as they were last heard of.
CREATE TABLE node (
    name           text             PRIMARY KEY,
    host           text             NOT NULL,
    address        text             NOT NULL,
    build          text             NOT NULL,
    since          timestamptz      NOT NULL,
    seen           timestamptz      NOT NULL,
    generation     bigint           NOT NULL,
    clock_offset   double precision NOT NULL,
    intake_bytes   bigint           NOT NULL,
    oldest_seconds double precision NOT NULL,
    commit_seconds double precision NOT NULL,
    fault          text
);
