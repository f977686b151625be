-- Alerts and their verdicts in a table for each day, so that a day is dropped and not deleted.
--
-- What stands becomes the table of the first day, under its own name. Nodes of before go on with it
-- alone, and nodes of now with all of them, until the next day begins: a day from now at the
-- earliest. Alerts are numbered on from one day to the next, each day in a room of its own.
LOCK TABLE alert, verdict IN ACCESS EXCLUSIVE MODE;

-- The days that have begun. A number below `bound_seq` belongs to that day or an earlier one;
-- `last_seq` is the last that was drawn, once the day is over.
CREATE TABLE alert_day (
    first_seq bigint      PRIMARY KEY,
    bound_seq bigint      NOT NULL,
    begun_at  timestamptz NOT NULL,
    last_seq  bigint
);

CREATE TABLE alerts (
    seq      bigint           NOT NULL,
    source   text             NOT NULL,
    id       text             NOT NULL,
    kind     text             NOT NULL,
    severity smallint         NOT NULL,
    state    text             NOT NULL,
    resource text             NOT NULL,
    time     timestamptz      NOT NULL,
    received timestamptz      NOT NULL,
    summary  text             NOT NULL,
    value    double precision,
    labels   jsonb            NOT NULL,
    body     jsonb            NOT NULL,
    PRIMARY KEY (seq)
) PARTITION BY RANGE (seq);
CREATE INDEX alerts_resource ON alerts (resource, seq);
CREATE INDEX alerts_received ON alerts USING brin (received);

CREATE TABLE verdicts (
    alert_seq    bigint      NOT NULL,
    rule         text        NOT NULL,
    rule_version int         NOT NULL,
    verdict      text        NOT NULL,
    reason       text        NOT NULL,
    job_id       bigint,
    at           timestamptz NOT NULL,
    tally        text        NOT NULL DEFAULT '',
    decided_at   timestamptz,
    PRIMARY KEY (alert_seq, rule)
) PARTITION BY RANGE (alert_seq);
CREATE INDEX verdicts_tally ON verdicts (rule, tally, alert_seq);
CREATE INDEX verdicts_dispatched ON verdicts (at) WHERE verdict = 'dispatched';
CREATE INDEX verdicts_of_rule ON verdicts (rule, alert_seq);

DO $$
DECLARE
    room  CONSTANT bigint := 1000000000;
    next  bigint := (SELECT last_value + is_called::int FROM alert_seq_seq);
    bound bigint := ((next + room / 2) / room + 1) * room;
BEGIN
    -- The sequence goes with the identity; the next one belongs to no day.
    ALTER TABLE alert ALTER COLUMN seq DROP IDENTITY;
    EXECUTE format('CREATE SEQUENCE alert_seq_seq START %s', next);
    ALTER TABLE alert ALTER COLUMN seq SET DEFAULT nextval('alert_seq_seq');
    ALTER TABLE alerts ALTER COLUMN seq SET DEFAULT nextval('alert_seq_seq');
    EXECUTE format('ALTER TABLE alerts ATTACH PARTITION alert FOR VALUES FROM (MINVALUE) TO (%s)', bound);
    EXECUTE format('ALTER TABLE verdicts ATTACH PARTITION verdict FOR VALUES FROM (MINVALUE) TO (%s)', bound);
    INSERT INTO alert_day (first_seq, bound_seq, begun_at) VALUES (0, bound, now());
END $$;

-- What is written to all days is counted as before; what nodes of before write to the first, by the
-- triggers that stand.
CREATE TRIGGER verdict_given AFTER INSERT ON verdicts
    REFERENCING NEW TABLE AS given FOR EACH STATEMENT EXECUTE FUNCTION verdicts_given();
CREATE TRIGGER verdict_changed AFTER UPDATE ON verdicts
    REFERENCING NEW TABLE AS given OLD TABLE AS former FOR EACH STATEMENT EXECUTE FUNCTION verdicts_changed();
CREATE TRIGGER alert_decided AFTER INSERT ON verdicts
    REFERENCING NEW TABLE AS given FOR EACH STATEMENT EXECUTE FUNCTION alerts_decided();
CREATE TRIGGER alert_decided_anew AFTER UPDATE ON verdicts
    REFERENCING NEW TABLE AS given OLD TABLE AS former FOR EACH STATEMENT EXECUTE FUNCTION alerts_decided_anew();
CREATE OR REPLACE FUNCTION alerts_decided_anew() RETURNS trigger LANGUAGE plpgsql AS '
BEGIN
    INSERT INTO alert_count AS c (minute, how, shard, count)
        WITH moved AS (SELECT DISTINCT alert_seq FROM given),
            present AS (SELECT v.* FROM verdicts v JOIN moved USING (alert_seq)
                WHERE v.alert_seq BETWEEN (SELECT min(alert_seq) FROM moved) AND (SELECT max(alert_seq) FROM moved)),
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

-- Jobs that a person may have to look at, among all those that ended well.
CREATE INDEX job_troubled ON job (created_at)
    WHERE state IN ('failed', 'refused', 'expired', 'unsure') OR effect = 'unconfirmed';
CREATE INDEX job_of_target ON job (target, id);

-- Jobs by runbook and rule and what became of them, counted in the same way as verdicts.
CREATE TABLE job_count (
    runbook   text        NOT NULL,
    rule      text        NOT NULL,
    shard     int         NOT NULL,
    jobs      bigint      NOT NULL,
    confirmed bigint      NOT NULL,
    last_at   timestamptz NOT NULL,
    PRIMARY KEY (runbook, rule, shard)
);
INSERT INTO job_count
    SELECT runbook, coalesce(rule, ''), 0, count(*), count(*) FILTER (WHERE effect = 'confirmed'), max(created_at)
    FROM job GROUP BY 1, 2;
CREATE FUNCTION job_counted() RETURNS trigger LANGUAGE plpgsql AS '
BEGIN
    INSERT INTO job_count AS c (runbook, rule, shard, jobs, confirmed, last_at)
        VALUES (NEW.runbook, coalesce(NEW.rule, ''''), pg_backend_pid(), (TG_OP = ''INSERT'')::int,
            coalesce(NEW.effect = ''confirmed'', false)::int
                - CASE WHEN TG_OP = ''UPDATE'' THEN coalesce(OLD.effect = ''confirmed'', false)::int ELSE 0 END,
            NEW.created_at)
        ON CONFLICT (runbook, rule, shard) DO UPDATE SET jobs = c.jobs + excluded.jobs,
            confirmed = c.confirmed + excluded.confirmed, last_at = greatest(c.last_at, excluded.last_at);
    RETURN NULL;
END';
CREATE TRIGGER job_made AFTER INSERT ON job FOR EACH ROW EXECUTE FUNCTION job_counted();
CREATE TRIGGER job_proved AFTER UPDATE ON job FOR EACH ROW
    WHEN (OLD.effect IS DISTINCT FROM NEW.effect) EXECUTE FUNCTION job_counted();
