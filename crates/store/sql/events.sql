-- Events: what is told of jobs and questions, and that something was published.

-- Writes an event of a job that is to enter as an alert. Called by triggers and by `store/outside`;
-- locks nothing that was there.
CREATE OR REPLACE FUNCTION tell(what text, severity text, words text, j job, more jsonb) RETURNS void
    LANGUAGE plpgsql AS $$
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

-- Who did something, as people read it: the name alone only where it is one that was given. The core
-- has the same (`core/principal`). Called by `decision_told`; locks nothing.
CREATE OR REPLACE FUNCTION principal_shown(who principal) RETURNS text
    LANGUAGE sql IMMUTABLE AS $$
    SELECT CASE split_part(who, '/', 1) WHEN 'token' THEN '' ELSE substr(who, strpos(who, '/') + 1) END
        || CASE split_part(who, '/', 1) WHEN 'token' THEN substr(who, strpos(who, '/') + 1)
            WHEN 'link' THEN ' (by link, not signed in)' WHEN 'mail' THEN ' (by mail, not signed in)'
            ELSE format(' (%s)', split_part(who, '/', 1)) END
$$;

-- Tells that a question is asked, and what became of it. Called for each row of `decision` that is
-- made or changes its state.
CREATE OR REPLACE FUNCTION decision_told() RETURNS trigger
    LANGUAGE plpgsql AS $$
DECLARE
    j    job;
    word text := CASE NEW.state WHEN 'open' THEN 'asked' ELSE NEW.state END;
BEGIN
    SELECT * INTO j FROM job WHERE id = NEW.job_id;
    PERFORM tell('decision.' || word, 'indeterminate', left(NEW.text, 500) || ': '
            || CASE NEW.state WHEN 'open' THEN 'asked' WHEN 'taken' THEN format('%s, by %s', NEW.choice, principal_shown(NEW.decided_by))
                WHEN 'silent' THEN 'nobody decided' ELSE 'not asked any more' END,
        j, jsonb_build_object('decision', jsonb_build_object('id', NEW.id, 'step', NEW.place, 'text', left(NEW.text, 4000),
            'state', NEW.state, 'choice', NEW.choice, 'by', NEW.decided_by, 'how', NEW.how, 'remark', NEW.remark, 'until', NEW.until)));
    RETURN NULL;
END $$;

-- Tells that a proposal is made, and what became of it. Called for each row of `proposal` that is made
-- or changes its state; the proposal's number is that of its job.
CREATE OR REPLACE FUNCTION proposal_told() RETURNS trigger
    LANGUAGE plpgsql AS $$
DECLARE
    word text := CASE NEW.state WHEN 'open' THEN 'made' ELSE NEW.state END;
    what text := format('proposal %s of rule %s: %s on %s', NEW.id, NEW.rule, NEW.runbook, NEW.target);
BEGIN
    INSERT INTO outbox (id, kind, at, job_id, alert) VALUES (
        format('proposal-%s-%s-%s', NEW.id, (extract(epoch FROM NEW.created_at) * 1000000)::bigint, word),
        'proposal.' || word, clock_timestamp(), NEW.id, jsonb_build_object(
            'kind', 'proposal.' || word, 'severity', CASE word WHEN 'faulty' THEN 'minor' ELSE 'indeterminate' END,
            'state', 'noted', 'resource', NEW.target,
            'summary', left(what || CASE word
                WHEN 'made' THEN ', since ' || NEW.reason
                WHEN 'faulty' THEN coalesce(' cannot be made: ' || NEW.note, ' cannot be made')
                ELSE ' is ' || word || coalesce(' by ' || principal_shown(NEW.decided_by), '') || coalesce(': ' || NEW.note, '')
            END, 1000),
            'labels', jsonb_build_object('proposal', NEW.id::text, 'runbook', NEW.runbook, 'rule', NEW.rule),
            'body', jsonb_build_object('proposal', jsonb_build_object('id', NEW.id, 'rule', NEW.rule,
                'runbook', NEW.runbook, 'target', NEW.target, 'state', NEW.state, 'reason', left(NEW.reason, 4000),
                'by', NEW.decided_by, 'note', left(NEW.note, 4000), 'urgency', NEW.urgency), 'chain', coalesce(NEW.chain, '[]'))));
    RETURN NULL;
END $$;

-- Counts the generation up. Called after each statement that changes `definition` or `secret`, and
-- for each row of `mute` that is added or lifted and each calendar that was read and is another; those who publish wait for each other.
CREATE OR REPLACE FUNCTION catalog_changed() RETURNS trigger
    LANGUAGE plpgsql AS $$BEGIN UPDATE catalog SET generation = generation + 1; RETURN NULL; END$$;
