-- What jobs have become is numbered by the sequence of the outbox itself; to look its name up took longer than the row.
DO $$ BEGIN
    EXECUTE format('ALTER TABLE job_change ALTER number SET DEFAULT nextval(%L)',
        pg_get_serial_sequence('outbox', 'number')::regclass);
END $$;

-- What follows the end of jobs that asked, waited, or are of a step, is done once for all jobs of a statement: a condition of
-- a row's trigger is read anew by each statement, whether or not anything ends in it.
DROP TRIGGER job_ends ON job;
DROP FUNCTION job_over();
CREATE OR REPLACE FUNCTION jobs_changed() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE
    became boolean;
    proved boolean;
    closes bigint[];
    parents bigint[];
BEGIN
    SELECT bool_or(o.state IS DISTINCT FROM j.state),
            bool_or((o.effect IS NOT DISTINCT FROM 'confirmed') <> (j.effect IS NOT DISTINCT FROM 'confirmed'))
        INTO became, proved FROM changed j JOIN before o ON o.id = j.id;
    IF proved THEN
        INSERT INTO job_count AS c (runbook, rule, shard, jobs, confirmed, last_at)
            SELECT j.runbook, coalesce(j.rule, ''), pg_backend_pid(), 0, sum(coalesce(j.effect = 'confirmed', false)::int
                - coalesce(o.effect = 'confirmed', false)::int), max(j.created_at)
            FROM changed j JOIN before o ON o.id = j.id GROUP BY 1, 2
            ON CONFLICT (runbook, rule, shard) DO UPDATE SET confirmed = c.confirmed + excluded.confirmed,
                last_at = greatest(c.last_at, excluded.last_at);
    END IF;
    IF NOT coalesce(became, false) THEN
        RETURN NULL;
    END IF;
    INSERT INTO job_change (job_id, word, state, effect, failure)
        SELECT j.id, e.word, e.state, e.effect, left(e.failure, 4000)
        FROM changed j JOIN before o ON o.id = j.id AND o.state IS DISTINCT FROM j.state
        CROSS JOIN LATERAL (
            SELECT 1 AS turn, 'started' AS word, 'running' AS state, NULL AS effect, NULL AS failure
                WHERE o.state = 'queued' AND j.begun AND NOT o.begun AND j.state <> 'running'
            UNION ALL
            SELECT 2, CASE
                    WHEN j.state <> 'running' THEN j.state
                    WHEN o.state = 'queued' THEN 'started'
                    WHEN o.state = 'paused' AND j.word = '"resume"' THEN 'resumed'
                    WHEN o.state = 'unsure' THEN 'resolved'
                END, j.state, j.effect, j.failure
        ) e
        WHERE e.word IS NOT NULL ORDER BY j.id, e.turn;
    SELECT array_agg(j.id) FILTER (WHERE j.outside), array_agg(j.parent ORDER BY j.parent) FILTER (WHERE j.parent IS NOT NULL)
        INTO closes, parents FROM changed j JOIN before o ON o.id = j.id AND o.state IS DISTINCT FROM j.state
        WHERE (j.outside OR j.parent IS NOT NULL) AND j.state IN ('succeeded', 'failed', 'cancelled', 'expired', 'refused');
    IF closes IS NOT NULL THEN
        UPDATE decision SET state = 'withdrawn', decided_at = now() WHERE job_id = ANY(closes) AND state = 'open';
        DELETE FROM wait WHERE job_id = ANY(closes);
        DELETE FROM heard WHERE job_id = ANY(closes);
    END IF;
    IF parents IS NOT NULL THEN
        -- In one order, whoever else counts for several of them.
        PERFORM 1 FROM job WHERE id = ANY(parents) ORDER BY id FOR UPDATE;
        UPDATE job SET posts = posts + (SELECT count(*) FROM unnest(parents) p WHERE p = job.id),
                wake_at = CASE WHEN state = 'waiting' THEN now() ELSE wake_at END
            WHERE id = ANY(parents);
    END IF;
    RETURN NULL;
END $$;
