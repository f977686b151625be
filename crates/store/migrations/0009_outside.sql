-- What jobs wait for outside of them: decisions of people, events, jobs of their own. Something that came is counted on
-- the job's row, so that a walk which lies down at the same moment does not sleep through it.
ALTER TABLE job ADD COLUMN posts int NOT NULL DEFAULT 0;
-- Whether it has asked or waited for an event.
ALTER TABLE job ADD COLUMN outside boolean NOT NULL DEFAULT false;

-- The job of a step: whose it is, at which place, how deep it stands below the first. One on the target of a job above it
-- shares that one's hold of it.
ALTER TABLE job ADD COLUMN parent bigint;
ALTER TABLE job ADD COLUMN parent_place text;
ALTER TABLE job ADD COLUMN root bigint;
ALTER TABLE job ADD COLUMN depth smallint NOT NULL DEFAULT 0;
ALTER TABLE job ADD COLUMN holds boolean NOT NULL DEFAULT true;
CREATE UNIQUE INDEX job_child ON job (parent, parent_place) WHERE parent IS NOT NULL;
CREATE INDEX job_children_alive ON job (parent) WHERE parent IS NOT NULL
    AND state IN ('queued', 'running', 'waiting', 'paused', 'unsure');
DROP INDEX job_target;
CREATE UNIQUE INDEX job_target ON job (target) WHERE holds AND state IN ('running', 'waiting', 'paused', 'unsure');

-- How many jobs of a runbook there are at once.
CREATE INDEX job_alive ON job (runbook) WHERE state IN ('running', 'waiting', 'paused', 'unsure') AND parent IS NULL;

-- The rules through whose jobs' events it came to be, the latest last.
ALTER TABLE job ADD COLUMN chain jsonb;

CREATE OR REPLACE FUNCTION job_filled() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    NEW.begun := coalesce(NEW.begun, false);
    NEW.steps_done := coalesce(NEW.steps_done, 0);
    NEW.steps := coalesce(NEW.steps, 0);
    NEW.doing := coalesce(NEW.doing, '');
    NEW.waits_for_alarm := coalesce(NEW.waits_for_alarm, false);
    NEW.word_number := coalesce(NEW.word_number, 0);
    NEW.claims := coalesce(NEW.claims, 0);
    NEW.posts := coalesce(NEW.posts, 0);
    NEW.outside := coalesce(NEW.outside, false);
    NEW.depth := coalesce(NEW.depth, 0);
    NEW.holds := coalesce(NEW.holds, true);
    RETURN NEW;
END $$;

-- Questions to people.
CREATE TABLE decision (
    id         bigint      GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    job_id     bigint      NOT NULL,
    place      text        NOT NULL,
    decider    jsonb       NOT NULL,
    text       text        NOT NULL,
    choices    jsonb       NOT NULL,
    silence    text,
    asked_at   timestamptz NOT NULL,
    until      timestamptz NOT NULL,
    state      text        NOT NULL DEFAULT 'open',
    choice     text,
    decided_by text,
    how        text,
    remark     text,
    decided_at timestamptz,
    UNIQUE (job_id, place)
);
CREATE INDEX decision_open ON decision (until) WHERE state = 'open';
CREATE INDEX decision_asked ON decision (asked_at, id);

-- Events that jobs wait for, each under the texts by which it is looked up. `horizon` is the first transaction that
-- surely sees it: what was recorded by earlier ones is looked for once more when all of these are over.
CREATE TABLE wait (
    job_id  bigint      NOT NULL,
    place   text        NOT NULL,
    key     text        NOT NULL,
    chosen  jsonb       NOT NULL,
    since   timestamptz NOT NULL,
    horizon xid8,
    settled boolean     NOT NULL DEFAULT false,
    looked  bigint      NOT NULL DEFAULT 0,
    PRIMARY KEY (job_id, place, key)
);
CREATE INDEX wait_key ON wait (key);

-- Alerts that may be what a job waits for.
CREATE TABLE heard (
    id        bigint  GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    job_id    bigint  NOT NULL,
    place     text    NOT NULL,
    alert_seq bigint  NOT NULL,
    told      boolean NOT NULL DEFAULT false
);
CREATE INDEX heard_of ON heard (job_id, place, alert_seq);
CREATE INDEX heard_untold ON heard (id) WHERE NOT told;

CREATE FUNCTION alerts_heard() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF EXISTS (SELECT 1 FROM wait) THEN
        INSERT INTO heard (job_id, place, alert_seq)
            SELECT DISTINCT w.job_id, w.place, n.seq FROM given n
            CROSS JOIN LATERAL (VALUES ('r' || n.resource), ('k' || n.kind), ('s' || n.source), ('*')) AS k (key)
            JOIN wait w ON w.key = k.key;
    END IF;
    RETURN NULL;
END $$;
CREATE TRIGGER alert_heard AFTER INSERT ON alerts
    REFERENCING NEW TABLE AS given FOR EACH STATEMENT EXECUTE FUNCTION alerts_heard();
-- Nodes of the release before write to the first day by its own name.
CREATE TRIGGER alert_heard AFTER INSERT ON alert
    REFERENCING NEW TABLE AS given FOR EACH STATEMENT EXECUTE FUNCTION alerts_heard();

-- Events that are still to enter as alerts of the source `arvok`, written with what they tell of; gone once they have.
CREATE TABLE outbox (
    number bigint      GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    id     text        NOT NULL,
    kind   text        NOT NULL,
    at     timestamptz NOT NULL,
    job_id bigint      NOT NULL,
    alert  jsonb       NOT NULL,
    -- Somebody lets it enter; if that takes longer, another may.
    taken  timestamptz
);

CREATE FUNCTION tell(what text, severity text, words text, j job, more jsonb) RETURNS void LANGUAGE sql AS $$
    INSERT INTO outbox (id, kind, at, job_id, alert) VALUES (
        format('job-%s-%s-%s', j.id, (extract(epoch FROM j.created_at) * 1000000)::bigint, gen_random_uuid()),
        what, clock_timestamp(), j.id, jsonb_build_object(
            'kind', what, 'severity', severity, 'state', 'noted', 'resource', j.target, 'summary', left(words, 1000),
            'labels', jsonb_strip_nulls(jsonb_build_object('job', j.id::text, 'runbook', j.runbook, 'rule', j.rule,
                'effect', j.effect, 'parent', j.parent::text)),
            'body', jsonb_build_object('job', jsonb_build_object('id', j.id, 'runbook', j.runbook, 'target', j.target,
                'state', j.state, 'effect', j.effect, 'failure', left(j.failure, 4000), 'rule', j.rule,
                'launched_by', j.launched_by, 'parent', j.parent, 'urgency', j.urgency), 'chain', coalesce(j.chain, '[]')) || more))
$$;

-- Jobs tell of each change of their state.
CREATE FUNCTION job_told() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE
    was  text := CASE WHEN TG_OP = 'UPDATE' THEN OLD.state END;
    word text := CASE
        WHEN NEW.state <> 'running' THEN NEW.state
        WHEN was = 'queued' THEN 'started'
        WHEN was = 'paused' AND NEW.word = '"resume"' THEN 'resumed'
        WHEN was = 'unsure' THEN 'resolved'
    END;
    grave boolean := NEW.state IN ('failed', 'expired', 'refused', 'unsure');
BEGIN
    IF word IS NOT NULL THEN
        PERFORM tell('job.' || word, CASE WHEN grave THEN 'minor' ELSE 'indeterminate' END,
            format('job %s (%s) %s', NEW.id, NEW.runbook, word)
                || CASE WHEN NEW.failure IS NOT NULL AND word <> 'started' THEN ': ' || NEW.failure
                    WHEN NEW.effect IN ('confirmed', 'unconfirmed') THEN ', effect ' || NEW.effect ELSE '' END, NEW, '{}');
    END IF;
    RETURN NULL;
END $$;
CREATE TRIGGER job_begins AFTER INSERT ON job FOR EACH ROW EXECUTE FUNCTION job_told();
CREATE TRIGGER job_changes AFTER UPDATE OF state ON job FOR EACH ROW
    WHEN (OLD.state IS DISTINCT FROM NEW.state) EXECUTE FUNCTION job_told();

-- What a job waited for is not waited for any more when it has ended; and the job above it hears of its end.
CREATE FUNCTION job_over() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF NEW.outside THEN
        UPDATE decision SET state = 'withdrawn', decided_at = now() WHERE job_id = NEW.id AND state = 'open';
        DELETE FROM wait WHERE job_id = NEW.id;
        DELETE FROM heard WHERE job_id = NEW.id;
    END IF;
    IF NEW.parent IS NOT NULL THEN
        UPDATE job SET posts = posts + 1, wake_at = CASE WHEN state = 'waiting' THEN now() ELSE wake_at END
            WHERE id = NEW.parent;
    END IF;
    RETURN NULL;
END $$;
CREATE TRIGGER job_ends AFTER UPDATE OF state ON job FOR EACH ROW
    WHEN ((NEW.outside OR NEW.parent IS NOT NULL)
        AND NEW.state IN ('succeeded', 'failed', 'cancelled', 'expired', 'refused') AND OLD.state <> NEW.state)
    EXECUTE FUNCTION job_over();

-- Decisions are told of as well.
CREATE FUNCTION decision_told() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE
    j    job;
    word text := CASE NEW.state WHEN 'open' THEN 'asked' ELSE NEW.state END;
BEGIN
    SELECT * INTO j FROM job WHERE id = NEW.job_id;
    PERFORM tell('decision.' || word, 'indeterminate', left(NEW.text, 500) || ': '
            || CASE NEW.state WHEN 'open' THEN 'asked' WHEN 'taken' THEN format('%s, by %s', NEW.choice, NEW.decided_by)
                WHEN 'silent' THEN 'nobody decided' ELSE 'not asked any more' END,
        j, jsonb_build_object('decision', jsonb_build_object('id', NEW.id, 'step', NEW.place, 'text', left(NEW.text, 4000),
            'state', NEW.state, 'choice', NEW.choice, 'by', NEW.decided_by, 'how', NEW.how, 'remark', NEW.remark, 'until', NEW.until)));
    RETURN NULL;
END $$;
CREATE TRIGGER decision_asked AFTER INSERT ON decision FOR EACH ROW EXECUTE FUNCTION decision_told();
CREATE TRIGGER decision_decided AFTER UPDATE OF state ON decision FOR EACH ROW
    WHEN (OLD.state IS DISTINCT FROM NEW.state) EXECUTE FUNCTION decision_told();

-- Calls of connections that allow so many at once, or so many within a time.
CREATE TABLE call_slot (
    id         bigint      GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    connection text        NOT NULL,
    until      timestamptz NOT NULL
);
CREATE INDEX call_slot_of ON call_slot (connection, until);
CREATE TABLE call_rate (
    connection text        PRIMARY KEY,
    next_at    timestamptz NOT NULL
);
