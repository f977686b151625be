-- Jobs are made, begun and ended several in one statement: what each row cost in triggers of its own is done once for all of
-- them.

-- What an event of a job says, as the alert that it enters as. An expression, and so a part of the statement that asks for it.
CREATE FUNCTION job_event(what text, severity text, words text, j job, state text, effect text, failure text, more jsonb)
RETURNS jsonb LANGUAGE sql STABLE AS $$
    SELECT jsonb_build_object(
        'kind', what, 'severity', severity, 'state', 'noted', 'resource', j.target, 'summary', left(words, 1000),
        'labels', jsonb_strip_nulls(jsonb_build_object('job', j.id::text, 'runbook', j.runbook, 'rule', j.rule,
            'effect', effect, 'parent', j.parent::text)),
        'body', jsonb_build_object('job', jsonb_build_object('id', j.id, 'runbook', j.runbook, 'target', j.target,
            'state', state, 'effect', effect, 'failure', left(failure, 4000), 'rule', j.rule,
            'launched_by', j.launched_by, 'parent', j.parent, 'urgency', j.urgency), 'chain', coalesce(j.chain, '[]')) || more)
$$;
CREATE FUNCTION job_event_id(j job) RETURNS text LANGUAGE sql VOLATILE AS $$
    SELECT format('job-%s-%s-%s', j.id, (extract(epoch FROM j.created_at) * 1000000)::bigint, gen_random_uuid())
$$;

CREATE OR REPLACE FUNCTION tell(what text, severity text, words text, j job, more jsonb) RETURNS void LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO outbox (id, kind, at, job_id, alert) VALUES (job_event_id(j), what, clock_timestamp(), j.id,
        job_event(what, severity, words, j, j.state, j.effect, j.failure, more));
END $$;

-- A change of a job's state in words: what is told of it, how grave that is, and with what it ended.
CREATE FUNCTION job_change(j job, word text, state text, effect text, failure text) RETURNS jsonb LANGUAGE sql STABLE AS $$
    SELECT job_event('job.' || word,
        CASE WHEN state IN ('failed', 'expired', 'refused', 'unsure') THEN 'minor' ELSE 'indeterminate' END,
        format('job %s (%s) %s', j.id, j.runbook, word)
            || CASE WHEN failure IS NOT NULL AND word <> 'started' THEN ': ' || failure
                WHEN effect IN ('confirmed', 'unconfirmed') THEN ', effect ' || effect ELSE '' END,
        j, state, effect, failure, '{}')
$$;

CREATE FUNCTION jobs_made() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO job_count AS c (runbook, rule, shard, jobs, confirmed, last_at)
        SELECT runbook, coalesce(rule, ''), pg_backend_pid(), count(*), count(*) FILTER (WHERE effect = 'confirmed'),
            max(created_at)
        FROM made GROUP BY 1, 2
        ON CONFLICT (runbook, rule, shard) DO UPDATE SET jobs = c.jobs + excluded.jobs,
            confirmed = c.confirmed + excluded.confirmed, last_at = greatest(c.last_at, excluded.last_at);
    INSERT INTO outbox (id, kind, at, job_id, alert)
        SELECT job_event_id(j), 'job.' || j.state, clock_timestamp(), j.id, job_change(j, j.state, j.state, j.effect, j.failure)
        FROM made j WHERE j.state <> 'running' ORDER BY j.id;
    RETURN NULL;
END $$;

-- A job that is over with its first record has begun all the same.
CREATE FUNCTION jobs_changed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO outbox (id, kind, at, job_id, alert)
        SELECT job_event_id(j), 'job.' || e.word, clock_timestamp(), j.id, job_change(j, e.word, e.state, e.effect, e.failure)
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
    RETURN NULL;
END $$;

DROP TRIGGER job_begins ON job;
DROP TRIGGER job_changes ON job;
DROP FUNCTION job_told();
DROP TRIGGER job_made ON job;
CREATE TRIGGER jobs_made AFTER INSERT ON job
    REFERENCING NEW TABLE AS made FOR EACH STATEMENT EXECUTE FUNCTION jobs_made();
CREATE TRIGGER jobs_changed AFTER UPDATE ON job
    REFERENCING OLD TABLE AS before NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION jobs_changed();
-- How many helped changes for few.
DROP TRIGGER job_proved ON job;
CREATE TRIGGER job_proved AFTER UPDATE ON job FOR EACH ROW
    WHEN ((OLD.effect IS NOT DISTINCT FROM 'confirmed') <> (NEW.effect IS NOT DISTINCT FROM 'confirmed'))
    EXECUTE FUNCTION job_counted();

-- Tries are written with their job's row in one statement, and so belong to one that is there; they go with it.
ALTER TABLE attempt DROP CONSTRAINT attempt_job_id_fkey;
CREATE FUNCTION jobs_gone() RETURNS trigger LANGUAGE plpgsql SET enable_seqscan = off AS $$
BEGIN
    DELETE FROM attempt WHERE job_id IN (SELECT id FROM gone);
    RETURN NULL;
END $$;
CREATE TRIGGER jobs_gone AFTER DELETE ON job
    REFERENCING OLD TABLE AS gone FOR EACH STATEMENT EXECUTE FUNCTION jobs_gone();

-- The next jobs that are due, several of one kind: as `job_due` with three values, which nodes of the release before ask.
CREATE FUNCTION job_due(alive bigint[], runbooks text[], most int[], several int) RETURNS SETOF job LANGUAGE plpgsql
    SET enable_sort = off SET enable_bitmapscan = off SET enable_seqscan = off AS $$
BEGIN
    RETURN QUERY SELECT * FROM job j WHERE state = 'waiting' AND wake_at <= now()
        ORDER BY wake_at LIMIT several FOR UPDATE SKIP LOCKED;
    IF FOUND THEN RETURN; END IF;
    RETURN QUERY SELECT * FROM job j WHERE state = 'running' AND lease_until < now() AND lapses < 5
            AND (claim IS NULL OR claim <> ALL(alive))
        ORDER BY lease_until LIMIT several FOR UPDATE SKIP LOCKED;
    IF FOUND THEN RETURN; END IF;
    RETURN QUERY SELECT * FROM job j WHERE state IN ('paused', 'unsure') AND word IS NOT NULL
        ORDER BY id LIMIT several FOR UPDATE SKIP LOCKED;
    IF FOUND THEN RETURN; END IF;
    RETURN QUERY SELECT * FROM job j WHERE state = 'queued' AND coalesce(deadline > now(), true)
            AND (NOT holds OR NOT EXISTS (SELECT 1 FROM job o WHERE o.target = j.target AND o.holds
                AND o.state IN ('running', 'waiting', 'paused', 'unsure') OFFSET 0))
            AND (parent IS NULL OR NOT EXISTS (SELECT 1 FROM job p WHERE p.id = j.parent AND p.state = 'paused' OFFSET 0))
            AND (parent IS NOT NULL OR NOT EXISTS (SELECT 1 FROM unnest(runbooks, most) AS l (runbook, most)
                WHERE l.runbook = j.runbook AND l.most <= (SELECT count(*) FROM job o WHERE o.runbook = j.runbook
                    AND o.parent IS NULL AND o.state IN ('running', 'waiting', 'paused', 'unsure'))))
        ORDER BY urgency DESC, deadline, id LIMIT several FOR UPDATE SKIP LOCKED;
END $$;

-- What a try was answered, as it came.
ALTER TABLE attempt ADD COLUMN answer jsonb;
