-- Records: what came of an event of a job.

-- Records jobs and their tries after an event of each: `node` is the one that begins them, if it
-- does: they must be queued still, no one may hold what they are steps of, and nothing may be
-- halted. Without it each is held by its claim. Gives the jobs that were recorded. Called by
-- `store/jobs/record`; locks those rows until the commit. Each row is found by its key, whatever
-- was known of the tables when this was planned; and it is planned once, since to plan it takes
-- longer than to run it.
CREATE OR REPLACE FUNCTION jobs_recorded(
    jobs jsonb, began jsonb, ended jsonb, node text, now timestamptz, lease int
) RETURNS TABLE(id bigint, runbook text, rule text, target text, chain jsonb)
    LANGUAGE plpgsql SET enable_seqscan = off SET enable_hashjoin = off SET enable_mergejoin = off
    SET plan_cache_mode = force_generic_plan SET jit = off AS $$
#variable_conflict use_column
DECLARE
    kept bigint[];
    begins CONSTANT text := node;
    moment CONSTANT timestamptz := now;
    halts CONSTANT boolean := begins IS NOT NULL AND EXISTS (SELECT 1 FROM halt);
BEGIN
    WITH held AS (UPDATE job j SET progress = t.progress, begun = true, state = t.state, failure = t.failure,
            lapses = CASE WHEN t.furthered THEN 0 ELSE j.lapses END,
            steps_done = t.steps_done, steps = t.steps, doing = t.doing,
            word = CASE WHEN j.word_number = t.heard THEN NULL ELSE j.word END,
            outside = j.outside OR t.outside, guards = j.guards || t.guards,
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
            outputs jsonb, until timestamptz, for_alarm boolean, alarm_seen timestamptz, guards text[])
        WHERE j.id = t.id AND CASE WHEN begins IS NULL THEN j.claim = t.claim AND j.state = 'running'
            ELSE j.state = 'queued' AND (NOT halts OR NOT job_halted(j))
                AND (j.parent IS NULL OR NOT EXISTS (SELECT 1 FROM job p WHERE p.id = j.parent AND p.state = 'paused')) END
        RETURNING j.id)
    SELECT array_agg(held.id) INTO kept FROM held;
    -- Tries that are new, also those that end at once. A null of JSON is a value here, and comes
    -- out of its row as none.
    IF began <> '[]' THEN
        INSERT INTO attempt (job_id, place, attempt, state, started_at, give, request, finished_at, output, error, saw)
            SELECT t.job, t.place, t.attempt, t.state, moment, coalesce(t.give, 'null'), t.request, t.finished_at,
                coalesce(t.output, CASE t.state WHEN 'done' THEN 'null'::jsonb END), t.error, t.saw
            FROM jsonb_to_recordset(began) AS t (job bigint, place text, attempt int, state text, give jsonb, request jsonb,
                finished_at timestamptz, output jsonb, error text, saw jsonb) WHERE t.job = ANY(kept)
            ON CONFLICT (job_id, place, attempt) DO UPDATE SET state = excluded.state, finished_at = excluded.finished_at,
                output = excluded.output, error = excluded.error, saw = coalesce(excluded.saw, attempt.saw);
    END IF;
    -- Tries that began before and end now; without a state they go on, and were answered or have
    -- looked.
    IF ended <> '[]' THEN
        UPDATE attempt a SET state = coalesce(t.state, a.state), error = coalesce(t.error, a.error),
                finished_at = CASE WHEN t.state IS NULL THEN a.finished_at ELSE moment END,
                output = coalesce(t.output, CASE t.state WHEN 'done' THEN 'null'::jsonb END, a.output),
                answer = coalesce(t.answer, a.answer), saw = coalesce(t.saw, a.saw)
            FROM jsonb_to_recordset(ended) AS t (job bigint, place text, attempt int, state text, output jsonb, error text,
                answer jsonb, saw jsonb)
            WHERE t.job = ANY(kept) AND a.job_id = t.job AND a.place = t.place AND a.attempt = t.attempt;
    END IF;
    RETURN QUERY SELECT j.id, j.runbook, j.rule, j.target, j.chain FROM job j WHERE j.id = ANY(kept);
END $$;
