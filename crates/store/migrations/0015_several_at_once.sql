-- Jobs are made, begun and ended several in one statement: what each row cost in triggers of its own is done once for all of
-- them.

-- What jobs have become, until it has entered as an alert; that is written when it enters, of this and of the job's row.
-- Numbered with what else is to enter.
CREATE TABLE job_change (
    number  bigint      PRIMARY KEY DEFAULT nextval(pg_get_serial_sequence('outbox', 'number')),
    at      timestamptz NOT NULL DEFAULT clock_timestamp(),
    job_id  bigint      NOT NULL,
    -- What became of it, the state it had by then, and with what.
    word    text        NOT NULL,
    state   text        NOT NULL,
    effect  text,
    failure text
);

-- Who lets events enter at the moment; if nothing was heard of it, another node does.
CREATE TABLE outbox_turn (node text NOT NULL, until timestamptz NOT NULL) WITH (fillfactor = 10);
INSERT INTO outbox_turn VALUES ('', '-infinity');

CREATE FUNCTION jobs_made() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO job_count AS c (runbook, rule, shard, jobs, confirmed, last_at)
        SELECT runbook, coalesce(rule, ''), pg_backend_pid(), count(*), count(*) FILTER (WHERE effect = 'confirmed'),
            max(created_at)
        FROM made GROUP BY 1, 2
        ON CONFLICT (runbook, rule, shard) DO UPDATE SET jobs = c.jobs + excluded.jobs,
            confirmed = c.confirmed + excluded.confirmed, last_at = greatest(c.last_at, excluded.last_at);
    INSERT INTO job_change (job_id, word, state, effect, failure)
        SELECT id, state, state, effect, left(failure, 4000) FROM made WHERE state <> 'running' ORDER BY id;
    RETURN NULL;
END $$;

-- A job that is over with its first record has begun all the same.
CREATE FUNCTION jobs_changed() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE
    became boolean;
    proved boolean;
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
    RETURN NULL;
END $$;

DROP TRIGGER job_begins ON job;
DROP TRIGGER job_changes ON job;
DROP FUNCTION job_told();
DROP TRIGGER job_made ON job;
DROP TRIGGER job_proved ON job;
DROP FUNCTION job_counted();
CREATE TRIGGER jobs_made AFTER INSERT ON job
    REFERENCING NEW TABLE AS made FOR EACH STATEMENT EXECUTE FUNCTION jobs_made();
CREATE TRIGGER jobs_changed AFTER UPDATE ON job
    REFERENCING OLD TABLE AS before NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION jobs_changed();

-- Tries are written with their job's row in one statement, and so belong to one that is there; they go with it.
ALTER TABLE attempt DROP CONSTRAINT attempt_job_id_fkey;
CREATE FUNCTION jobs_gone() RETURNS trigger LANGUAGE plpgsql SET enable_seqscan = off AS $$
BEGIN
    DELETE FROM attempt WHERE job_id IN (SELECT id FROM gone);
    DELETE FROM job_change WHERE job_id IN (SELECT id FROM gone);
    RETURN NULL;
END $$;
CREATE TRIGGER jobs_gone AFTER DELETE ON job
    REFERENCING OLD TABLE AS gone FOR EACH STATEMENT EXECUTE FUNCTION jobs_gone();

-- The next jobs that are due, several of one kind: as `job_due` with three values, which nodes of the release before ask.
CREATE FUNCTION job_due(alive bigint[], runbooks text[], most int[], several int) RETURNS SETOF job LANGUAGE plpgsql
    SET enable_sort = off SET enable_bitmapscan = off SET enable_seqscan = off SET plan_cache_mode = force_generic_plan AS $$
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

-- What is recorded of jobs and their tries after an event of each: `node` is the one that begins them, if it does; without it
-- each is held by its claim. The jobs that are. As of what is due, whatever was known of the tables when this was planned, each
-- row is found by its key; and it is planned once, since to plan it takes longer than to run it.
CREATE FUNCTION jobs_recorded(jobs jsonb, began jsonb, ended jsonb, node text, now timestamptz, lease int)
RETURNS TABLE (id bigint, runbook text, rule text, target text, chain jsonb) LANGUAGE plpgsql
    SET enable_seqscan = off SET enable_hashjoin = off SET enable_mergejoin = off SET plan_cache_mode = force_generic_plan AS $$
#variable_conflict use_column
DECLARE
    kept bigint[];
    begins CONSTANT text := node;
    moment CONSTANT timestamptz := now;
BEGIN
    WITH held AS (UPDATE job j SET progress = t.progress, begun = true, state = t.state, failure = t.failure,
            lapses = CASE WHEN t.furthered THEN 0 ELSE j.lapses END,
            steps_done = t.steps_done, steps = t.steps, doing = t.doing,
            word = CASE WHEN j.word_number = t.heard THEN NULL ELSE j.word END,
            outside = j.outside OR t.outside,
            effect = CASE WHEN t.ends THEN t.effect ELSE j.effect END,
            outputs = CASE WHEN t.ends THEN coalesce(t.outputs, 'null') ELSE j.outputs END,
            started_at = coalesce(j.started_at, moment),
            finished_at = CASE WHEN t.ends AND t.state <> 'unsure' THEN moment END,
            claims = j.claims + CASE WHEN begins IS NULL THEN 0 ELSE 1 END,
            node = CASE WHEN t.state = 'running' THEN coalesce(begins, j.node) END,
            claim = CASE WHEN t.state = 'running' THEN t.claim END,
            lease_until = CASE WHEN t.state <> 'running' THEN NULL WHEN begins IS NULL THEN j.lease_until
                ELSE now() + make_interval(secs => lease) END,
            waits_for_alarm = coalesce(t.for_alarm, j.waits_for_alarm),
            -- An alarm cleared between looking at it and letting go must not be missed.
            wake_at = CASE WHEN t.state <> 'waiting' THEN NULL
                WHEN j.word IS NOT NULL AND j.word_number <> t.heard OR j.posts <> t.posts THEN now()
                WHEN t.for_alarm AND EXISTS (SELECT 1 FROM alarm a WHERE a.id = j.alarm_id AND a.state = 'cleared'
                    AND a.changed_at IS DISTINCT FROM t.alarm_seen) THEN now()
                ELSE t.until END
        FROM jsonb_to_recordset(jobs) AS t (id bigint, claim bigint, progress jsonb, furthered boolean, steps_done int,
            steps int, doing text, heard int, posts int, outside boolean, state text, failure text, ends boolean, effect text,
            outputs jsonb, until timestamptz, for_alarm boolean, alarm_seen timestamptz)
        WHERE j.id = t.id AND CASE WHEN begins IS NULL THEN j.claim = t.claim AND j.state = 'running' ELSE j.state = 'queued' END
        RETURNING j.id)
    SELECT array_agg(held.id) INTO kept FROM held;
    -- Tries that are new, also those that end at once. A null of JSON is a value here, and comes out of its row as none.
    IF began <> '[]' THEN
        INSERT INTO attempt (job_id, place, attempt, state, started_at, give, request, finished_at, output, error)
            SELECT t.job, t.place, t.attempt, t.state, moment, coalesce(t.give, 'null'), t.request, t.finished_at,
                coalesce(t.output, CASE t.state WHEN 'done' THEN 'null'::jsonb END), t.error
            FROM jsonb_to_recordset(began) AS t (job bigint, place text, attempt int, state text, give jsonb, request jsonb,
                finished_at timestamptz, output jsonb, error text) WHERE t.job = ANY(kept)
            ON CONFLICT (job_id, place, attempt) DO UPDATE SET state = excluded.state, finished_at = excluded.finished_at,
                output = excluded.output, error = excluded.error;
    END IF;
    -- Tries that began before and end now; without a state they go on, and were answered.
    IF ended <> '[]' THEN
        UPDATE attempt a SET state = coalesce(t.state, a.state), error = coalesce(t.error, a.error),
                finished_at = CASE WHEN t.state IS NULL THEN a.finished_at ELSE moment END,
                output = coalesce(t.output, CASE t.state WHEN 'done' THEN 'null'::jsonb END, a.output),
                answer = coalesce(t.answer, a.answer)
            FROM jsonb_to_recordset(ended) AS t (job bigint, place text, attempt int, state text, output jsonb, error text,
                answer jsonb)
            WHERE t.job = ANY(kept) AND a.job_id = t.job AND a.place = t.place AND a.attempt = t.attempt;
    END IF;
    RETURN QUERY SELECT j.id, j.runbook, j.rule, j.target, j.chain FROM job j WHERE j.id = ANY(kept);
END $$;

