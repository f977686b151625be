-- Guards: what they know of the jobs that they concern.

-- What guards know at this moment. `guards` has for each its name, what its jobs are `counted_as`,
-- whether it counts `targets`, and in milliseconds how far it looks back for what it counts: `per` (and
-- `most` of these), `after`, `ceiling`, `circuit`. Gives for each by which versions its jobs were
-- counted, the moment, and the state as `core/guard` reads it. Called by `guards_locked`, and for
-- whoever looks at guards; locks nothing.
--
-- What is under way is gone through once for all of them. Read by indexes whatever the tables were when
-- this was planned, and by plain scans of them, which leave out for all others what has ended since:
-- to compile it took a hundred times as long as to do it.
CREATE OR REPLACE FUNCTION guards_known(guards jsonb)
    RETURNS TABLE(guard text, version int, group_version int, moment timestamptz, state jsonb)
    LANGUAGE plpgsql SET plan_cache_mode = force_generic_plan SET jit = off SET enable_seqscan = off
    SET enable_bitmapscan = off AS $$
#variable_conflict use_column
DECLARE
    of_targets CONSTANT text[] := ARRAY(SELECT g ->> 'counted_as' FROM jsonb_array_elements(guards) g
        WHERE (g ->> 'targets')::boolean);
BEGIN
    RETURN QUERY WITH under_way AS MATERIALIZED (
        SELECT k.counted_as, j.id, j.target FROM job j CROSS JOIN LATERAL unnest(j.guards) AS k (counted_as)
            WHERE cardinality(of_targets) > 0 AND j.guards IS NOT NULL
                AND j.state IN ('running', 'waiting', 'paused', 'unsure') AND k.counted_as = ANY(of_targets)
        UNION ALL SELECT u.counted_as, j.id, j.target FROM guard_use u JOIN job j ON j.id = u.job_id AND NOT job_is_over(j.state)
            WHERE u.counted_as = ANY(of_targets) AND u.open)
    SELECT g.guard, c.version, c.group_version, now_is.at, jsonb_build_object(
        'under_way', (SELECT coalesce(jsonb_agg(jsonb_build_array(w.id, w.target)), '[]')
            FROM under_way w WHERE w.counted_as = g.counted_as),
        'touched', (SELECT coalesce(jsonb_agg(DISTINCT jsonb_build_array(t.job_id, t.resource)), '[]')
            FROM under_way w JOIN touch t ON t.job_id = w.id WHERE w.counted_as = g.counted_as),
        'begun', CASE WHEN g.per IS NULL THEN '[]' ELSE (SELECT coalesce(jsonb_agg(b.begun_at ORDER BY b.begun_at DESC), '[]')
            FROM (SELECT u.begun_at FROM guard_use u WHERE u.counted_as = g.counted_as
                    AND u.begun_at > now_is.at - make_interval(secs => g.per / 1000.0)
                ORDER BY u.begun_at DESC LIMIT g.most) b) END,
        'used', coalesce(s.used, 0), 'used_since', s.since,
        'failed', CASE WHEN g.after IS NULL THEN 'null' ELSE (SELECT jsonb_build_array(u.job_id, u.ended_at)
            FROM guard_use u WHERE u.counted_as = g.counted_as AND u.failed ORDER BY u.ended_at DESC LIMIT 1) END,
        'failures', CASE WHEN g.circuit IS NULL THEN '{}' ELSE (SELECT coalesce(jsonb_object_agg(f.runbook, f.n), '{}')
            FROM (SELECT u.runbook, count(*) AS n FROM guard_use u LEFT JOIN circuit r ON r.guard = g.guard AND r.runbook = u.runbook
                WHERE u.counted_as = g.counted_as AND u.failed AND u.ended_at > greatest(
                    now_is.at - make_interval(secs => g.circuit / 1000.0), coalesce(r.resumed_at, '-infinity'))
                GROUP BY 1) f) END,
        'circuits', CASE WHEN g.circuit IS NULL THEN '[]' ELSE (SELECT coalesce(jsonb_agg(jsonb_build_object('guard', r.guard,
            'runbook', r.runbook, 'since', r.since, 'failures', r.failures)), '[]')
            FROM circuit r WHERE r.guard = g.guard AND r.open) END,
        'first_held', (SELECT jsonb_build_object('urgency', j.urgency, 'deadline', j.deadline, 'id', j.id) FROM job j
            WHERE j.state = 'queued' AND j.held IS NOT NULL AND j.held ->> 'guard' = g.guard AND j.aside
                AND coalesce(j.deadline, 'infinity') > now_is.at
            ORDER BY j.urgency DESC, j.deadline, j.id LIMIT 1))
    FROM jsonb_to_recordset(guards) AS g (guard text, counted_as text, per bigint, most int, after bigint, ceiling bigint,
        circuit bigint)
    CROSS JOIN (SELECT clock_timestamp() AS at) now_is
    LEFT JOIN guard_counted c ON c.guard = g.guard
    LEFT JOIN LATERAL (SELECT sum(u.amount) AS used, min(u.begun_at) AS since FROM guard_use u WHERE g.ceiling IS NOT NULL
        AND u.counted_as = g.counted_as AND u.amount > 0
        AND u.begun_at > now_is.at - make_interval(secs => g.ceiling / 1000.0)) s ON true;
END $$;

-- Who touched resources last, of each the newest touches alone: one job may be many of them. Of a job
-- that is not known any more the call is what is known. Called by `guards_locked`, and for whoever keeps
-- away from what was touched (`store/touches`); locks nothing.
CREATE OR REPLACE FUNCTION touches_known(resources text[])
    RETURNS TABLE(resource text, job bigint, ended timestamptz) LANGUAGE sql STABLE AS $$
    SELECT r.resource, t.job_id, CASE WHEN j.id IS NULL OR job_is_over(j.state) THEN coalesce(j.finished_at, t.at) END
    FROM unnest(resources) AS r (resource)
    CROSS JOIN LATERAL (SELECT n.job_id, max(n.at) AS at FROM (SELECT job_id, at FROM touch WHERE resource = r.resource
        ORDER BY at DESC LIMIT 500) n GROUP BY 1) t
    LEFT JOIN job j ON j.id = t.job_id
$$;

-- The same as `guards_known`, which nobody changes by beginning a job until the end of the transaction;
-- with the first guard, who touched `resources` last. Called where jobs begin and where they are let
-- back (`store/jobs/guards`); takes a lock of each guard, in the order of their names, before any row.
CREATE OR REPLACE FUNCTION guards_locked(guards jsonb, resources text[])
    RETURNS TABLE(guard text, version int, group_version int, moment timestamptz, state jsonb, touches jsonb)
    LANGUAGE plpgsql AS $$
#variable_conflict use_column
DECLARE
    names    text[];
    all_of   text[];
    counting text[];
    touched  jsonb;
BEGIN
    SELECT array_agg(g ->> 'guard' ORDER BY g ->> 'guard'), array_agg(g ->> 'counted_as'), coalesce(array_agg(g ->> 'counted_as')
            FILTER (WHERE g ->> 'per' IS NOT NULL OR g ->> 'ceiling' IS NOT NULL), '{}')
        INTO names, all_of, counting FROM jsonb_array_elements(guards) g;
    PERFORM pg_advisory_xact_lock(hashtextextended('guard ' || n, 0)) FROM unnest(names) n;
    -- Only what was counted anew has open rows.
    IF EXISTS (SELECT 1 FROM guard_use WHERE open) THEN
        PERFORM guards_closed(all_of, counting);
    END IF;
    IF cardinality(resources) > 0 THEN
        SELECT jsonb_agg(to_jsonb(t)) INTO touched FROM touches_known(resources) t;
    END IF;
    RETURN QUERY SELECT k.guard, k.version, k.group_version, k.moment, k.state,
        CASE WHEN k.guard = names[1] THEN touched END FROM guards_known(guards) k;
END $$;

-- Notes which jobs that guards have counted anew have ended, and how. What has failed is looked back at,
-- and by those that are `counting` what begins whatever has begun; all else goes. Called with the locks
-- of these guards, and by upkeep; passes over what others hold.
CREATE OR REPLACE FUNCTION guards_closed(all_of text[], counting text[]) RETURNS void
    LANGUAGE sql SET plan_cache_mode = force_generic_plan SET jit = off SET enable_seqscan = off
    SET enable_bitmapscan = off SET enable_hashjoin = off SET enable_mergejoin = off AS $$
    WITH closed AS MATERIALIZED (SELECT o.counted_as, o.job_id, j.finished_at,
            coalesce(j.state = 'failed' OR j.effect = 'unconfirmed', false) AS failed
        FROM unnest(all_of) n JOIN guard_use o ON o.counted_as = n AND o.open LEFT JOIN job j ON j.id = o.job_id
        WHERE j.id IS NULL OR job_is_over(j.state)
        FOR UPDATE OF o SKIP LOCKED),
    gone AS (DELETE FROM guard_use u USING closed c WHERE u.counted_as = c.counted_as AND u.job_id = c.job_id
        AND NOT c.failed AND c.counted_as <> ALL(counting))
    UPDATE guard_use u SET open = false, ended_at = coalesce(c.finished_at, clock_timestamp()), failed = c.failed
        FROM closed c
        WHERE u.counted_as = c.counted_as AND u.job_id = c.job_id AND (c.failed OR c.counted_as = ANY(counting));
$$;
