-- Counts: what was decided and how far it took alerts, so that nothing is counted row by row. No
-- trial counts.

-- How far a verdict takes an alert: the smaller, the further. Called by lists, timelines and the
-- counts below; locks nothing.
CREATE OR REPLACE FUNCTION how_far(verdict text) RETURNS smallint
    LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
    SELECT (CASE verdict WHEN 'dispatched' THEN 1 WHEN 'proposed' THEN 2 WHEN 'watched' THEN 3
        WHEN 'folded' THEN 4 WHEN 'idle' THEN 4 ELSE 5 END)::smallint$$;

-- Counts new verdicts by rule, verdict and hour. Called after each insert into `verdicts`; locks
-- rows of this connection alone.
CREATE OR REPLACE FUNCTION verdicts_given() RETURNS trigger
    LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO verdict_count AS c (rule, verdict, hour, shard, count, last_at)
        SELECT rule, verdict, date_trunc('hour', at, 'UTC'), pg_backend_pid(), count(*), max(at)
        FROM given WHERE NOT trial GROUP BY 1, 2, 3
        ON CONFLICT (rule, verdict, hour, shard)
            DO UPDATE SET count = c.count + excluded.count, last_at = greatest(c.last_at, excluded.last_at);
    RETURN NULL;
END$$;

-- Counts verdicts that were replaced: the former one less, the new one more. Called after each
-- update of `verdicts`.
CREATE OR REPLACE FUNCTION verdicts_changed() RETURNS trigger
    LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO verdict_count AS c (rule, verdict, hour, shard, count, last_at)
        SELECT rule, verdict, date_trunc('hour', at, 'UTC'), pg_backend_pid(), sum(n), max(at)
        FROM (SELECT rule, verdict, at, 1 AS n FROM given WHERE NOT trial
            UNION ALL SELECT rule, verdict, at, -1 FROM former WHERE NOT trial) v
        GROUP BY 1, 2, 3 HAVING sum(n) <> 0
        ON CONFLICT (rule, verdict, hour, shard)
            DO UPDATE SET count = c.count + excluded.count, last_at = greatest(c.last_at, excluded.last_at);
    RETURN NULL;
END$$;

-- Counts alerts by minute and by the furthest that any rule took them. Called after each insert
-- into `verdicts`. What Arvok tells of its own doings is not counted. Each alert is found by its
-- key, whatever was known of the tables when this was planned.
CREATE OR REPLACE FUNCTION alerts_decided() RETURNS trigger
    LANGUAGE plpgsql SET enable_seqscan = off SET enable_hashjoin = off SET enable_mergejoin = off AS $$
BEGIN
    INSERT INTO alert_count AS c (minute, how, shard, count)
        SELECT minute, how, pg_backend_pid(), count(*)
        FROM (SELECT date_trunc('minute', min(at), 'UTC') AS minute, min(how_far(verdict)) AS how
            FROM given g WHERE NOT g.trial AND NOT EXISTS (SELECT 1 FROM alerts a WHERE a.seq = g.alert_seq AND a.source = 'arvok' OFFSET 0)
            GROUP BY alert_seq) f
        GROUP BY 1, 2 ORDER BY 1, 2
        ON CONFLICT (minute, how, shard) DO UPDATE SET count = c.count + excluded.count;
    RETURN NULL;
END $$;

-- Moves alerts in those counts whose furthest verdict is another by now. Called after each update
-- of `verdicts`.
CREATE OR REPLACE FUNCTION alerts_decided_anew() RETURNS trigger
    LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO alert_count AS c (minute, how, shard, count)
        WITH moved AS (SELECT DISTINCT alert_seq FROM given g
                WHERE NOT g.trial AND NOT EXISTS (SELECT 1 FROM alerts a WHERE a.seq = g.alert_seq AND a.source = 'arvok' OFFSET 0)),
            present AS (SELECT v.* FROM verdicts v JOIN moved USING (alert_seq)
                WHERE v.alert_seq BETWEEN (SELECT min(alert_seq) FROM moved) AND (SELECT max(alert_seq) FROM moved)),
            present_far AS (SELECT alert_seq, min(at) AS at, min(how_far(verdict)) AS how FROM present GROUP BY 1),
            past_far AS (SELECT alert_seq, min(at) AS at, min(how_far(verdict)) AS how
                FROM (SELECT p.alert_seq, p.at, p.verdict FROM present p
                        WHERE NOT EXISTS (SELECT 1 FROM former f WHERE (f.alert_seq, f.rule) = (p.alert_seq, p.rule))
                    UNION ALL SELECT alert_seq, at, verdict FROM former JOIN moved USING (alert_seq)) v GROUP BY 1)
        SELECT date_trunc('minute', at, 'UTC'), how, pg_backend_pid(), sum(n)
        FROM (SELECT at, how, 1 AS n FROM present_far UNION ALL SELECT at, how, -1 FROM past_far) d
        GROUP BY 1, 2 HAVING sum(n) <> 0 ORDER BY 1, 2
        ON CONFLICT (minute, how, shard) DO UPDATE SET count = c.count + excluded.count;
    RETURN NULL;
END $$;
