-- Jobs: what follows when they are made, change, end and go.

-- The span of a new job, as a `traceparent`: in the trace of its cause, else in one of its own. A
-- trace of its own is marked as sampled: a call within one that is not would keep the other side
-- from recording what it would have recorded. The last half of a random UUID is never zero. Called
-- where jobs are made (`store/jobs/new`); locks nothing.
CREATE OR REPLACE FUNCTION job_trace(cause text) RETURNS text
    LANGUAGE sql VOLATILE AS $$
    SELECT '00-' || coalesce(substr(cause, 4, 32), replace(gen_random_uuid()::text, '-', ''))
        || '-' || right(replace(gen_random_uuid()::text, '-', ''), 16)
        || '-' || coalesce(substr(cause, 54, 2), '01')
$$;

-- Counts jobs that are made, but for those of trials, and tells of them. Called after each insert
-- into `job`; once for all jobs of a statement.
CREATE OR REPLACE FUNCTION jobs_made() RETURNS trigger
    LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO job_count AS c (runbook, rule, shard, jobs, confirmed, last_at)
        SELECT runbook, coalesce(rule, ''), pg_backend_pid(), count(*), count(*) FILTER (WHERE effect = 'confirmed'),
            max(created_at)
        FROM made WHERE trial IS NULL GROUP BY 1, 2
        ON CONFLICT (runbook, rule, shard) DO UPDATE SET jobs = c.jobs + excluded.jobs,
            confirmed = c.confirmed + excluded.confirmed, last_at = greatest(c.last_at, excluded.last_at);
    INSERT INTO job_change (job_id, state, effect, failure)
        SELECT id, state, effect, left(failure, 4000) FROM made ORDER BY id;
    RETURN NULL;
END $$;

-- Counts effects, refuses changes of a state that there are not, notes the others to be told, and has
-- what follows the end of jobs: questions are withdrawn, waits end, what failed is counted for the
-- guards that let it begin, and the jobs above are woken.
-- Called after each update of `job`; locks the jobs above in the order of their numbers.
CREATE OR REPLACE FUNCTION jobs_changed() RETURNS trigger
    LANGUAGE plpgsql AS $$
DECLARE
    became boolean;
    proved boolean;
    wrong text;
    closes bigint[];
    parents bigint[];
    fails boolean;
BEGIN
    SELECT bool_or(o.state IS DISTINCT FROM j.state),
            bool_or((o.effect IS NOT DISTINCT FROM 'confirmed') <> (j.effect IS NOT DISTINCT FROM 'confirmed'))
        INTO became, proved FROM changed j JOIN before o ON o.id = j.id;
    IF proved THEN
        INSERT INTO job_count AS c (runbook, rule, shard, jobs, confirmed, last_at)
            SELECT j.runbook, coalesce(j.rule, ''), pg_backend_pid(), 0, sum(coalesce(j.effect = 'confirmed', false)::int
                - coalesce(o.effect = 'confirmed', false)::int), max(j.created_at)
            FROM changed j JOIN before o ON o.id = j.id WHERE j.trial IS NULL GROUP BY 1, 2
            ON CONFLICT (runbook, rule, shard) DO UPDATE SET confirmed = c.confirmed + excluded.confirmed,
                last_at = greatest(c.last_at, excluded.last_at);
    END IF;
    IF NOT coalesce(became, false) THEN
        RETURN NULL;
    END IF;
    SELECT min(format('job %s was %s and cannot become %s', j.id, o.state, j.state)) INTO wrong
        FROM changed j JOIN before o ON o.id = j.id
        WHERE o.state <> j.state AND NOT job_may_become(o.state, j.state);
    IF wrong IS NOT NULL THEN
        RAISE EXCEPTION USING ERRCODE = 'check_violation', MESSAGE = wrong;
    END IF;
    INSERT INTO job_change (job_id, was, state, begins, resumed, effect, failure)
        SELECT j.id, o.state, j.state, j.begun AND NOT o.begun, r.resumed, j.effect, left(j.failure, 4000)
        FROM changed j JOIN before o ON o.id = j.id AND o.state <> j.state
        CROSS JOIN LATERAL (SELECT j.word IS NOT DISTINCT FROM '"resume"' AS resumed) r
        WHERE job_change_is_told(o.state, j.state, r.resumed) ORDER BY j.id;
    SELECT array_agg(j.id) FILTER (WHERE j.outside), array_agg(j.parent ORDER BY j.parent) FILTER (WHERE j.parent IS NOT NULL),
            bool_or(j.guards IS NOT NULL AND (j.state = 'failed' OR j.effect = 'unconfirmed'))
        INTO closes, parents, fails FROM changed j JOIN before o ON o.id = j.id AND o.state IS DISTINCT FROM j.state
        WHERE (j.outside OR j.parent IS NOT NULL OR j.guards IS NOT NULL) AND job_is_over(j.state);
    IF fails THEN
        INSERT INTO guard_use (counted_as, job_id, runbook, target, begun_at, ended_at, failed)
            SELECT k.counted_as, j.id, j.runbook, j.target, coalesce(j.started_at, now()), coalesce(j.finished_at, now()), true
            FROM changed j JOIN before o ON o.id = j.id AND o.state <> j.state
            CROSS JOIN LATERAL (SELECT DISTINCT unnest(j.guards)) AS k (counted_as)
            WHERE job_is_over(j.state) AND (j.state = 'failed' OR j.effect = 'unconfirmed') ORDER BY 1, 2
            ON CONFLICT (counted_as, job_id) DO UPDATE SET open = false, ended_at = excluded.ended_at, failed = true;
    END IF;
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

-- Takes the tries and changes of jobs that are deleted along. Called after each delete of `job`.
CREATE OR REPLACE FUNCTION jobs_gone() RETURNS trigger
    LANGUAGE plpgsql SET enable_seqscan = off AS $$
BEGIN
    DELETE FROM attempt WHERE job_id IN (SELECT id FROM gone);
    DELETE FROM job_change WHERE job_id IN (SELECT id FROM gone);
    RETURN NULL;
END $$;

-- Lets back one job for each target, and one for each runbook, of jobs that have ended. Called
-- after each update of `job`; passes over what others hold, and what a guard holds.
CREATE OR REPLACE FUNCTION jobs_let_back() RETURNS trigger
    LANGUAGE plpgsql AS $$
DECLARE
    back bigint[];
BEGIN
    IF NOT EXISTS (SELECT 1 FROM job WHERE state = 'queued' AND aside) THEN
        RETURN NULL;
    END IF;
    WITH ended AS (SELECT c.target, c.runbook FROM changed c JOIN before o ON o.id = c.id WHERE o.state <> c.state
            AND job_is_over(c.state))
    SELECT array_agg(b.id) INTO back FROM (
        SELECT n.id FROM (SELECT DISTINCT target FROM ended) t CROSS JOIN LATERAL (SELECT j.id FROM job j
            WHERE j.state = 'queued' AND j.aside AND j.target = t.target
                AND coalesce(j.deadline, 'infinity') > now() AND coalesce(j.held_look, '-infinity') <= now()
            ORDER BY j.urgency DESC, coalesce(j.deadline, 'infinity'), j.id LIMIT 1 FOR UPDATE SKIP LOCKED) n
        UNION SELECT n.id FROM (SELECT DISTINCT runbook FROM ended) r CROSS JOIN LATERAL (SELECT j.id FROM job j
            WHERE j.state = 'queued' AND j.aside AND j.runbook = r.runbook AND j.parent IS NULL
                AND coalesce(j.deadline, 'infinity') > now() AND coalesce(j.held_look, '-infinity') <= now()
            ORDER BY j.urgency DESC, coalesce(j.deadline, 'infinity'), j.id LIMIT 1 FOR UPDATE SKIP LOCKED) n) b;
    -- An update of no row would come here again, for ever.
    IF back IS NOT NULL THEN
        UPDATE job SET aside = false WHERE id = ANY(back);
    END IF;
    RETURN NULL;
END $$;
