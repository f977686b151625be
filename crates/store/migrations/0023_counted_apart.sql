-- Ids that came before with other content, and when the last delivery came.
ALTER TABLE delivery_count ADD COLUMN conflicts bigint NOT NULL DEFAULT 0;
ALTER TABLE delivery_count ADD COLUMN last_at timestamptz;

-- The alerts for which a job was dispatched, where it is for several: those of a gathering. `job_id` is that of a proposal as well,
-- whose number is that of its job.
CREATE TABLE gathered (
    job_id    bigint NOT NULL,
    alert_seq bigint NOT NULL,
    alarm_id  bigint,
    PRIMARY KEY (job_id, alert_seq)
);
CREATE INDEX gathered_alarm ON gathered (alarm_id, job_id DESC) WHERE alarm_id IS NOT NULL;

-- Alerts by minute and by how far any rule took them; what Arvok tells of its own doings is not among them. Each alert is found by its
-- key, whatever was known of the tables when this was planned.
CREATE OR REPLACE FUNCTION alerts_decided() RETURNS trigger LANGUAGE plpgsql
    SET enable_seqscan = off SET enable_hashjoin = off SET enable_mergejoin = off AS $$
BEGIN
    INSERT INTO alert_count AS c (minute, how, shard, count)
        SELECT minute, how, pg_backend_pid(), count(*)
        FROM (SELECT date_trunc('minute', min(at), 'UTC') AS minute, min(how_far(verdict)) AS how
            FROM given g WHERE NOT EXISTS (SELECT 1 FROM alerts a WHERE a.seq = g.alert_seq AND a.source = 'arvok' OFFSET 0)
            GROUP BY alert_seq) f
        GROUP BY 1, 2 ORDER BY 1, 2
        ON CONFLICT (minute, how, shard) DO UPDATE SET count = c.count + excluded.count;
    RETURN NULL;
END $$;
CREATE OR REPLACE FUNCTION alerts_decided_anew() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO alert_count AS c (minute, how, shard, count)
        WITH moved AS (SELECT DISTINCT alert_seq FROM given g
                WHERE NOT EXISTS (SELECT 1 FROM alerts a WHERE a.seq = g.alert_seq AND a.source = 'arvok' OFFSET 0)),
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
