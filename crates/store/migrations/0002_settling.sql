-- All of settling: due times, what tallies share, proposals, and verdicts that can be asked for
-- by their tally.
ALTER TABLE alarm ADD COLUMN told_at timestamptz;

-- Memories of before get the fields that they have now.
UPDATE tally SET state = jsonb_set(state, '{episode}', state -> 'episode'
        || '{"latest": {"alert": 0, "severity": "indeterminate", "entries": 1}, "again": 0}')
    WHERE jsonb_typeof(state -> 'episode') = 'object';
UPDATE tally SET state = jsonb_set(state, '{last}', state -> 'last' || jsonb_build_object(
        'severity', 'indeterminate', 'stance', CASE WHEN state #> '{last,job}' IS NULL THEN 'watch' ELSE 'act' END))
    WHERE jsonb_typeof(state -> 'last') = 'object';
UPDATE tally SET state = jsonb_set(state, '{episode,fired}', state #> '{episode,fired}' || jsonb_build_object(
        'severity', 'indeterminate', 'stance', CASE WHEN state #> '{episode,fired,job}' IS NULL THEN 'watch' ELSE 'act' END))
    WHERE jsonb_typeof(state #> '{episode,fired}') = 'object';

ALTER TABLE tally ADD COLUMN due timestamptz;
CREATE INDEX tally_due ON tally (due) WHERE due IS NOT NULL;

-- Gatherings and caps.
CREATE TABLE pool (
    rule  text  NOT NULL,
    key   text  NOT NULL,
    state jsonb,
    due   timestamptz,
    PRIMARY KEY (rule, key)
);
CREATE INDEX pool_due ON pool (due) WHERE due IS NOT NULL;

ALTER TABLE verdict ADD COLUMN tally text NOT NULL DEFAULT '';
ALTER TABLE verdict ADD COLUMN decided_at timestamptz;
CREATE INDEX verdict_tally ON verdict (rule, tally, alert_seq);

ALTER TABLE job ADD COLUMN reason text;
UPDATE job SET reason = v.reason FROM verdict v WHERE v.alert_seq = job.alert_seq AND v.rule = job.rule;

-- A proposal that is launched becomes the job of the same number.
CREATE TABLE proposal (
    id              bigint      PRIMARY KEY,
    rule            text        NOT NULL,
    rule_version    int         NOT NULL,
    runbook         text        NOT NULL,
    runbook_version int         NOT NULL,
    inputs          jsonb       NOT NULL,
    target          text        NOT NULL,
    urgency         smallint    NOT NULL,
    deadline_ms     bigint,
    alert_seq       bigint,
    alarm_id        bigint,
    reason          text        NOT NULL,
    state           text        NOT NULL,
    created_at      timestamptz NOT NULL,
    decided_at      timestamptz,
    decided_by      text,
    note            text
);
CREATE INDEX proposal_open ON proposal (id) WHERE state = 'open';
CREATE INDEX proposal_rule ON proposal (rule, id);
