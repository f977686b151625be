-- Alerts: where a time begins among them, and who may wait for them.

-- A number at or below the first alert that was received since a time, found by halving and at most
-- 64 below it. Called by the search for events that jobs wait for (`store/outside/events`); locks
-- nothing.
CREATE OR REPLACE FUNCTION alert_floor(since timestamptz) RETURNS bigint
    LANGUAGE plpgsql STABLE SET plan_cache_mode = force_generic_plan AS $$
DECLARE
    low bigint;
    high bigint;
    middle bigint;
    found record;
BEGIN
    SELECT coalesce(max(first_seq), 0) INTO low FROM alert_day WHERE begun_at <= since;
    SELECT max(seq) INTO high FROM alerts;
    WHILE high - low > 64 LOOP
        middle := low + (high - low) / 2;
        SELECT seq, received INTO found FROM alerts WHERE seq >= middle AND seq <= high ORDER BY seq LIMIT 1;
        IF found.seq IS NULL OR found.received >= since THEN
            high := middle;
        ELSE
            low := found.seq;
        END IF;
    END LOOP;
    RETURN low;
END $$;

-- Notes alerts that may be what some job waits for: no trial is. Called after each insert into
-- `alerts`; one row for each of them, however many wait.
CREATE OR REPLACE FUNCTION alerts_heard() RETURNS trigger
    LANGUAGE plpgsql AS $$
BEGIN
    IF EXISTS (SELECT 1 FROM wait) THEN
        INSERT INTO unheard (alert_seq) SELECT n.seq FROM given n
            WHERE n.trial IS NULL AND EXISTS (SELECT 1 FROM wait w WHERE w.key IN ('r' || n.resource, 'k' || n.kind, 's' || n.source, '*'))
            ON CONFLICT DO NOTHING;
    END IF;
    RETURN NULL;
END $$;
