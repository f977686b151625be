-- Queued jobs that something stands in the way of, as another on their target, are set aside when there are so many of them
-- that whoever claims looks through them, and let back when what stood in their way ends: one for each that ends.
-- Null where it is not: nodes of the release before insert rows without it.
ALTER TABLE job ADD COLUMN aside boolean;
CREATE INDEX job_ready ON job (urgency DESC, deadline, id) WHERE state = 'queued' AND aside IS NOT TRUE;
CREATE INDEX job_aside ON job (target, urgency DESC, deadline, id) WHERE state = 'queued' AND aside;
CREATE INDEX job_aside_of ON job (runbook, urgency DESC, deadline, id) WHERE state = 'queued' AND aside AND parent IS NULL;
DROP INDEX job_queue;

CREATE OR REPLACE FUNCTION job_due(alive bigint[], runbooks text[], most int[], several int) RETURNS SETOF job LANGUAGE plpgsql
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
    RETURN QUERY SELECT * FROM job j WHERE state = 'queued' AND aside IS NOT TRUE AND coalesce(deadline > now(), true)
            AND (NOT holds OR NOT EXISTS (SELECT 1 FROM job o WHERE o.target = j.target AND o.holds
                AND o.state IN ('running', 'waiting', 'paused', 'unsure') OFFSET 0))
            AND (parent IS NULL OR NOT EXISTS (SELECT 1 FROM job p WHERE p.id = j.parent AND p.state = 'paused' OFFSET 0))
            AND (parent IS NOT NULL OR NOT EXISTS (SELECT 1 FROM unnest(runbooks, most) AS l (runbook, most)
                WHERE l.runbook = j.runbook AND l.most <= (SELECT count(*) FROM job o WHERE o.runbook = j.runbook
                    AND o.parent IS NULL AND o.state IN ('running', 'waiting', 'paused', 'unsure'))))
        ORDER BY urgency DESC, deadline, id LIMIT several FOR UPDATE SKIP LOCKED;
END $$;

-- Lets back one for each target, and one for each runbook, of jobs that have ended.
CREATE FUNCTION jobs_let_back() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE
    back bigint[];
BEGIN
    IF NOT EXISTS (SELECT 1 FROM job WHERE state = 'queued' AND aside) THEN
        RETURN NULL;
    END IF;
    WITH ended AS (SELECT c.target, c.runbook FROM changed c JOIN before o ON o.id = c.id WHERE o.state <> c.state
            AND c.state IN ('succeeded', 'failed', 'cancelled', 'expired', 'refused'))
    SELECT array_agg(b.id) INTO back FROM (
        SELECT n.id FROM (SELECT DISTINCT target FROM ended) t CROSS JOIN LATERAL (SELECT j.id FROM job j
            WHERE j.state = 'queued' AND j.aside AND j.target = t.target
            ORDER BY j.urgency DESC, j.deadline, j.id LIMIT 1 FOR UPDATE SKIP LOCKED) n
        UNION SELECT n.id FROM (SELECT DISTINCT runbook FROM ended) r CROSS JOIN LATERAL (SELECT j.id FROM job j
            WHERE j.state = 'queued' AND j.aside AND j.runbook = r.runbook AND j.parent IS NULL
            ORDER BY j.urgency DESC, j.deadline, j.id LIMIT 1 FOR UPDATE SKIP LOCKED) n) b;
    -- An update of no row would come here again, for ever.
    IF back IS NOT NULL THEN
        UPDATE job SET aside = false WHERE id = ANY(back);
    END IF;
    RETURN NULL;
END $$;
CREATE TRIGGER jobs_let_back AFTER UPDATE ON job
    REFERENCING OLD TABLE AS before NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION jobs_let_back();
