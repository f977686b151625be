-- Claims: which jobs are due.

-- The next jobs that are due: those that waited for their time, those whose lease was lost, those
-- to which a person has said something, or the first of the queue, without those in `deciding`.
-- Called by claims (`store/jobs/claims`). The rows of those that had begun are held until the
-- commit, and what others hold is passed over; those of the queue are only read, since they are
-- written later if at all. What a halt concerns is passed over. However few there were when the table was last looked through, each way
-- follows its index and ends at the first: to sort a queue at every claim costs the more the longer
-- it is. What looks costly for that, such as reading the few halts, must not be compiled for each
-- job. OFFSET keeps a table of all that are alive from being made.
CREATE OR REPLACE FUNCTION jobs_due(
    alive bigint[], runbooks text[], most int[], deciding bigint[], several int, several_queued int
) RETURNS SETOF job
    LANGUAGE plpgsql SET enable_sort = off SET enable_bitmapscan = off SET enable_seqscan = off
    SET plan_cache_mode = force_generic_plan SET jit = off AS $$
DECLARE
    wanted int := several_queued;
    found_here int;
    -- Mostly there is none, and then no job is asked about it.
    halts CONSTANT boolean := EXISTS (SELECT 1 FROM halt);
BEGIN
    RETURN QUERY SELECT * FROM job j WHERE state = 'waiting' AND wake_at <= now()
            AND (NOT halts OR NOT job_halted(j))
        ORDER BY wake_at LIMIT several FOR UPDATE SKIP LOCKED;
    IF FOUND THEN RETURN; END IF;
    RETURN QUERY SELECT * FROM job j WHERE state = 'running' AND lease_until < now() AND lapses < 5
            AND (claim IS NULL OR claim <> ALL(alive)) AND (NOT halts OR NOT job_halted(j))
        ORDER BY lease_until LIMIT several FOR UPDATE SKIP LOCKED;
    IF FOUND THEN RETURN; END IF;
    RETURN QUERY SELECT * FROM job j WHERE state IN ('paused', 'unsure') AND word IS NOT NULL
            AND (NOT halts OR NOT job_halted(j))
        ORDER BY id LIMIT several FOR UPDATE SKIP LOCKED;
    IF FOUND THEN RETURN; END IF;
    -- From urgent to low, each level from now on: those whose deadline has passed are not read, however
    -- many wait to be ended.
    FOR level IN REVERSE 3..0 LOOP
        RETURN QUERY SELECT * FROM job j WHERE state = 'queued' AND aside IS NOT TRUE AND urgency = level
            AND coalesce(deadline, 'infinity') > now()
            AND (NOT holds OR NOT EXISTS (SELECT 1 FROM job o WHERE o.target = j.target AND o.holds
                AND o.state IN ('running', 'waiting', 'paused', 'unsure') OFFSET 0))
            AND (parent IS NULL OR NOT EXISTS (SELECT 1 FROM job p WHERE p.id = j.parent AND p.state = 'paused' OFFSET 0))
            AND (parent IS NOT NULL OR trial IS NOT DISTINCT FROM 'dry'
                OR NOT EXISTS (SELECT 1 FROM unnest(runbooks, most) AS l (runbook, most)
                WHERE l.runbook = j.runbook AND l.most <= (SELECT count(*) FROM job o WHERE o.runbook = j.runbook
                    AND o.parent IS NULL AND o.trial IS DISTINCT FROM 'dry' AND o.state IN ('running', 'waiting', 'paused', 'unsure'))))
            AND id <> ALL(deciding) AND (NOT halts OR NOT job_halted(j))
            ORDER BY urgency DESC, coalesce(deadline, 'infinity'), id LIMIT wanted;
        GET DIAGNOSTICS found_here = ROW_COUNT;
        wanted := wanted - found_here;
        EXIT WHEN wanted <= 0;
    END LOOP;
END $$;
