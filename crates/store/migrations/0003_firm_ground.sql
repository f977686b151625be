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

-- How often each verdict was given, by rule and hour. Each connection counts in rows of its own, so
-- that nobody waits for another; upkeep adds up those of hours that are over (`shard` 0).
CREATE TABLE verdict_count (
    rule    text        NOT NULL,
    verdict text        NOT NULL,
    hour    timestamptz NOT NULL,
    shard   int         NOT NULL,
    count   bigint      NOT NULL,
    last_at timestamptz NOT NULL,
    PRIMARY KEY (rule, verdict, hour, shard)
);
INSERT INTO verdict_count
    SELECT rule, verdict, date_trunc('hour', at, 'UTC'), 0, count(*), max(at) FROM verdict GROUP BY 1, 2, 3;
CREATE FUNCTION verdicts_given() RETURNS trigger LANGUAGE plpgsql AS '
BEGIN
    INSERT INTO verdict_count AS c (rule, verdict, hour, shard, count, last_at)
        SELECT rule, verdict, date_trunc(''hour'', at, ''UTC''), pg_backend_pid(), count(*), max(at)
        FROM given GROUP BY 1, 2, 3
        ON CONFLICT (rule, verdict, hour, shard)
            DO UPDATE SET count = c.count + excluded.count, last_at = greatest(c.last_at, excluded.last_at);
    RETURN NULL;
END';
CREATE FUNCTION verdicts_changed() RETURNS trigger LANGUAGE plpgsql AS '
BEGIN
    INSERT INTO verdict_count AS c (rule, verdict, hour, shard, count, last_at)
        SELECT rule, verdict, date_trunc(''hour'', at, ''UTC''), pg_backend_pid(), sum(n), max(at)
        FROM (SELECT rule, verdict, at, 1 AS n FROM given UNION ALL SELECT rule, verdict, at, -1 FROM former) v
        GROUP BY 1, 2, 3 HAVING sum(n) <> 0
        ON CONFLICT (rule, verdict, hour, shard)
            DO UPDATE SET count = c.count + excluded.count, last_at = greatest(c.last_at, excluded.last_at);
    RETURN NULL;
END';
CREATE TRIGGER verdict_given AFTER INSERT ON verdict
    REFERENCING NEW TABLE AS given FOR EACH STATEMENT EXECUTE FUNCTION verdicts_given();
CREATE TRIGGER verdict_changed AFTER UPDATE ON verdict
    REFERENCING NEW TABLE AS given OLD TABLE AS former FOR EACH STATEMENT EXECUTE FUNCTION verdicts_changed();

-- Alerts by minute and by how far any rule took them, counted in the same way. Those of before this
-- stand under `shard` -1 with the alerts that concerned no rule (0), which are otherwise what is left.
CREATE FUNCTION how_far(verdict text) RETURNS smallint LANGUAGE sql IMMUTABLE PARALLEL SAFE AS '
    SELECT (CASE verdict WHEN ''dispatched'' THEN 1 WHEN ''proposed'' THEN 2 WHEN ''watched'' THEN 3
        WHEN ''folded'' THEN 4 WHEN ''idle'' THEN 4 ELSE 5 END)::smallint';
CREATE TABLE alert_count (
    minute timestamptz NOT NULL,
    how    smallint    NOT NULL,
    shard  int         NOT NULL,
    count  bigint      NOT NULL,
    PRIMARY KEY (minute, how, shard)
);
INSERT INTO alert_count
    SELECT date_trunc('minute', received, 'UTC'), how, -1, count(*)
    FROM (SELECT a.received, coalesce((SELECT min(how_far(v.verdict)) FROM verdict v WHERE v.alert_seq = a.seq), 0) AS how
        FROM alert a WHERE a.received >= now() - interval '8 days') f GROUP BY 1, 2;
CREATE FUNCTION alerts_decided() RETURNS trigger LANGUAGE plpgsql AS '
BEGIN
    INSERT INTO alert_count AS c (minute, how, shard, count)
        SELECT minute, how, pg_backend_pid(), count(*)
        FROM (SELECT date_trunc(''minute'', min(at), ''UTC'') AS minute, min(how_far(verdict)) AS how
            FROM given GROUP BY alert_seq) f
        GROUP BY 1, 2 ORDER BY 1, 2
        ON CONFLICT (minute, how, shard) DO UPDATE SET count = c.count + excluded.count;
    RETURN NULL;
END';
CREATE FUNCTION alerts_decided_anew() RETURNS trigger LANGUAGE plpgsql AS '
BEGIN
    INSERT INTO alert_count AS c (minute, how, shard, count)
        WITH moved AS (SELECT DISTINCT alert_seq FROM given),
            present AS (SELECT v.* FROM verdict v JOIN moved USING (alert_seq)),
            present_far AS (SELECT alert_seq, min(at) AS at, min(how_far(verdict)) AS how FROM present GROUP BY 1),
            past_far AS (SELECT alert_seq, min(at) AS at, min(how_far(verdict)) AS how
                FROM (SELECT p.alert_seq, p.at, p.verdict FROM present p
                        WHERE NOT EXISTS (SELECT 1 FROM former f WHERE (f.alert_seq, f.rule) = (p.alert_seq, p.rule))
                    UNION ALL SELECT alert_seq, at, verdict FROM former) v GROUP BY 1)
        SELECT date_trunc(''minute'', at, ''UTC''), how, pg_backend_pid(), sum(n)
        FROM (SELECT at, how, 1 AS n FROM present_far UNION ALL SELECT at, how, -1 FROM past_far) d
        GROUP BY 1, 2 HAVING sum(n) <> 0 ORDER BY 1, 2
        ON CONFLICT (minute, how, shard) DO UPDATE SET count = c.count + excluded.count;
    RETURN NULL;
END';
CREATE TRIGGER alert_decided AFTER INSERT ON verdict
    REFERENCING NEW TABLE AS given FOR EACH STATEMENT EXECUTE FUNCTION alerts_decided();
CREATE TRIGGER alert_decided_anew AFTER UPDATE ON verdict
    REFERENCING NEW TABLE AS given OLD TABLE AS former FOR EACH STATEMENT EXECUTE FUNCTION alerts_decided_anew();
CREATE INDEX verdict_dispatched ON verdict (at) WHERE verdict = 'dispatched';

-- The verdicts of a rule, newest first.
CREATE INDEX verdict_of_rule ON verdict (rule, alert_seq);
DROP INDEX verdict_rule;
