-- Alerts that may be what some job waits for, until it was found out for which: whoever records alerts adds one row for each of
-- them, however many wait. Found out is outside of the intake's transaction (`outside/events`).
CREATE TABLE unheard (
    alert_seq bigint PRIMARY KEY
);

CREATE OR REPLACE FUNCTION alerts_heard() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF EXISTS (SELECT 1 FROM wait) THEN
        INSERT INTO unheard (alert_seq) SELECT n.seq FROM given n
            WHERE EXISTS (SELECT 1 FROM wait w WHERE w.key IN ('r' || n.resource, 'k' || n.kind, 's' || n.source, '*'))
            ON CONFLICT DO NOTHING;
    END IF;
    RETURN NULL;
END $$;

-- Whether its job was woken since the transactions that it waits for are over.
ALTER TABLE wait ADD COLUMN called boolean NOT NULL DEFAULT false;
CREATE INDEX wait_uncalled ON wait (horizon) WHERE NOT settled AND NOT called;

-- A number below which no alert was received since a time, found by halving: numbers follow the times, so that what
-- was stored since then is read without going through the day.
CREATE FUNCTION alert_floor(since timestamptz) RETURNS bigint LANGUAGE plpgsql STABLE SET plan_cache_mode = force_generic_plan AS $$
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

-- Those whose time has passed are found without looking at the others.
CREATE INDEX job_deadline ON job (deadline) WHERE state = 'queued' AND deadline IS NOT NULL;
