-- A function of SQL is parsed and planned anew at each call; of this one that was half of what a short job cost.
CREATE OR REPLACE FUNCTION tell(what text, severity text, words text, j job, more jsonb) RETURNS void LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO outbox (id, kind, at, job_id, alert) VALUES (
        format('job-%s-%s-%s', j.id, (extract(epoch FROM j.created_at) * 1000000)::bigint, gen_random_uuid()),
        what, clock_timestamp(), j.id, jsonb_build_object(
            'kind', what, 'severity', severity, 'state', 'noted', 'resource', j.target, 'summary', left(words, 1000),
            'labels', jsonb_strip_nulls(jsonb_build_object('job', j.id::text, 'runbook', j.runbook, 'rule', j.rule,
                'effect', j.effect, 'parent', j.parent::text)),
            'body', jsonb_build_object('job', jsonb_build_object('id', j.id, 'runbook', j.runbook, 'target', j.target,
                'state', j.state, 'effect', j.effect, 'failure', left(j.failure, 4000), 'rule', j.rule,
                'launched_by', j.launched_by, 'parent', j.parent, 'urgency', j.urgency), 'chain', coalesce(j.chain, '[]')) || more));
END $$;

-- A job that is over with its first record has begun all the same.
CREATE OR REPLACE FUNCTION job_told() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE
    was   text := CASE WHEN TG_OP = 'UPDATE' THEN OLD.state END;
    word  text := CASE
        WHEN NEW.state <> 'running' THEN NEW.state
        WHEN was = 'queued' THEN 'started'
        WHEN was = 'paused' AND NEW.word = '"resume"' THEN 'resumed'
        WHEN was = 'unsure' THEN 'resolved'
    END;
    grave boolean := NEW.state IN ('failed', 'expired', 'refused', 'unsure');
    began job := NEW;
BEGIN
    IF was = 'queued' AND NEW.begun AND NOT OLD.begun AND NEW.state <> 'running' THEN
        began.state := 'running';
        began.effect := NULL;
        began.failure := NULL;
        PERFORM tell('job.started', 'indeterminate', format('job %s (%s) started', NEW.id, NEW.runbook), began, '{}');
    END IF;
    IF word IS NOT NULL THEN
        PERFORM tell('job.' || word, CASE WHEN grave THEN 'minor' ELSE 'indeterminate' END,
            format('job %s (%s) %s', NEW.id, NEW.runbook, word)
                || CASE WHEN NEW.failure IS NOT NULL AND word <> 'started' THEN ': ' || NEW.failure
                    WHEN NEW.effect IN ('confirmed', 'unconfirmed') THEN ', effect ' || NEW.effect ELSE '' END, NEW, '{}');
    END IF;
    RETURN NULL;
END $$;

-- The next job that is due: one that waited for its time, one that was left behind, one to which a person has said something,
-- or the first of the queue. However few of them there were when the table was last looked through, each way is gone through in
-- the order of its index and ends at the first: to gather and sort a queue at every claim costs the more the longer it is.
-- OFFSET keeps a table of all that are alive from being made.
CREATE FUNCTION job_due(alive bigint[], runbooks text[], most int[]) RETURNS SETOF job LANGUAGE plpgsql
    SET enable_sort = off SET enable_bitmapscan = off SET enable_seqscan = off AS $$
BEGIN
    RETURN QUERY SELECT * FROM job j WHERE state = 'waiting' AND wake_at <= now()
        ORDER BY wake_at LIMIT 1 FOR UPDATE SKIP LOCKED;
    IF FOUND THEN RETURN; END IF;
    RETURN QUERY SELECT * FROM job j WHERE state = 'running' AND lease_until < now() AND lapses < 5
            AND (claim IS NULL OR claim <> ALL(alive))
        ORDER BY lease_until LIMIT 1 FOR UPDATE SKIP LOCKED;
    IF FOUND THEN RETURN; END IF;
    RETURN QUERY SELECT * FROM job j WHERE state IN ('paused', 'unsure') AND word IS NOT NULL
        ORDER BY id LIMIT 1 FOR UPDATE SKIP LOCKED;
    IF FOUND THEN RETURN; END IF;
    RETURN QUERY SELECT * FROM job j WHERE state = 'queued' AND coalesce(deadline > now(), true)
            AND (NOT holds OR NOT EXISTS (SELECT 1 FROM job o WHERE o.target = j.target AND o.holds
                AND o.state IN ('running', 'waiting', 'paused', 'unsure') OFFSET 0))
            AND (parent IS NULL OR NOT EXISTS (SELECT 1 FROM job p WHERE p.id = j.parent AND p.state = 'paused' OFFSET 0))
            AND (parent IS NOT NULL OR NOT EXISTS (SELECT 1 FROM unnest(runbooks, most) AS l (runbook, most)
                WHERE l.runbook = j.runbook AND l.most <= (SELECT count(*) FROM job o WHERE o.runbook = j.runbook
                    AND o.parent IS NULL AND o.state IN ('running', 'waiting', 'paused', 'unsure'))))
        ORDER BY urgency DESC, deadline, id LIMIT 1 FOR UPDATE SKIP LOCKED;
END $$;
