-- All tables, in the order in which they are explained: each with what a row is. Functions and triggers are not here: they stand in
-- `store/sql`, and are made anew when they change.
--
-- Counts are kept in rows of their own for each connection (`shard`), so that no batch waits for another; upkeep adds up what is over.


-- The installation
-- ================

-- The keys of outward calls begin with its id, so that no two installations send the same.
CREATE TABLE installation (
    one boolean DEFAULT true PRIMARY KEY,
    id  uuid NOT NULL DEFAULT gen_random_uuid(),
    CHECK (one)
);
INSERT INTO installation DEFAULT VALUES;

-- The oldest migration that a node has to know to work with this database: nodes that know it go on, also when later ones have been
-- made by a newer release. A migration that older nodes cannot live with sets it to its own name.
CREATE TABLE migration_floor (
    is_one    boolean DEFAULT true PRIMARY KEY,
    migration text NOT NULL,
    CHECK (is_one)
);
INSERT INTO migration_floor (migration) VALUES ('0001_baseline');

-- Which functions and triggers of `store/sql` stand: their revision, and what their text comes to.
CREATE TABLE routines (
    is_one    boolean DEFAULT true PRIMARY KEY,
    revision  int NOT NULL,
    text_hash text NOT NULL,
    CHECK (is_one)
);

-- How long things are kept, for all nodes; a source's own time stands beside that of all. Without a row nobody has said it yet.
CREATE TABLE retention (
    what    text NOT NULL,
    source  text NOT NULL DEFAULT '',
    seconds bigint NOT NULL,
    CHECK (seconds > 0),
    PRIMARY KEY (what, source)
);

-- While there is a row, no node begins a job or takes one up.
CREATE TABLE halt (
    is_one boolean DEFAULT true PRIMARY KEY,
    since  timestamptz NOT NULL DEFAULT now(),
    by     text NOT NULL,
    reason text NOT NULL,
    CHECK (is_one)
);

-- The nodes as they were last heard of, by the database's clock.
CREATE TABLE node (
    name           text PRIMARY KEY,
    host           text NOT NULL,
    address        text NOT NULL,
    build          text NOT NULL,
    since          timestamptz NOT NULL,
    seen           timestamptz NOT NULL,
    generation     bigint NOT NULL,
    clock_offset   double precision NOT NULL,
    intake_bytes   bigint NOT NULL,
    oldest_seconds double precision NOT NULL,
    commit_seconds double precision NOT NULL,
    fault          text
);

-- A value sealed with the key of the secrets: whoever cannot open it has another key.
CREATE TABLE key_check (
    is_one boolean DEFAULT true PRIMARY KEY,
    sealed bytea NOT NULL,
    CHECK (is_one)
);


-- Who may do what, and what was done
-- ==================================

-- A token, of which only the hash is kept.
CREATE TABLE token (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name       text NOT NULL,
    role       text NOT NULL,
    hash       bytea NOT NULL,
    created_at timestamptz NOT NULL,
    UNIQUE (hash),
    UNIQUE (name)
);

-- Names of tokens that were revoked: they are not made again, so that a name in the records is one token's.
CREATE TABLE token_gone (
    name       text PRIMARY KEY,
    revoked_at timestamptz NOT NULL DEFAULT now()
);

-- Who is signed in to the console, by the hash of the cookie; it ends with its token.
CREATE TABLE session (
    hash       bytea PRIMARY KEY,
    token_id   bigint NOT NULL REFERENCES token (id) ON DELETE CASCADE,
    expires_at timestamptz NOT NULL
);

-- A secret, sealed, and where it may go: `connection/name`, `source/name`.
CREATE TABLE secret (
    name       text PRIMARY KEY,
    sealed     bytea NOT NULL,
    changed_at timestamptz NOT NULL,
    allowed    text[] NOT NULL DEFAULT '{}'
);

-- To which addresses, and under which authorities, an admin lets a secret go.
CREATE TABLE secret_approval (
    secret      text NOT NULL,
    connection  text NOT NULL,
    shown_to    jsonb NOT NULL,
    approved_by text NOT NULL,
    approved_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (secret, connection, shown_to)
);

-- What people and nodes did, and who was refused. What has the same `same` within an hour is counted in one row. What is done to a
-- job names it as `job 12`.
CREATE TABLE audit (
    id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at      timestamptz NOT NULL DEFAULT now(),
    by_kind text NOT NULL,
    by_name text NOT NULL,
    act     text NOT NULL,
    what    text NOT NULL,
    detail  text NOT NULL DEFAULT '',
    times   bigint NOT NULL DEFAULT 1,
    same    text,
    UNIQUE (same)
);
CREATE INDEX audit_at ON audit (at);
CREATE INDEX audit_what ON audit (what, id) WHERE what LIKE 'job %';


-- What is published
-- =================

-- Every version of every definition; one that ends a definition has the text of the version before.
CREATE TABLE definition (
    kind         text NOT NULL,
    name         text NOT NULL,
    version      int NOT NULL,
    file         text NOT NULL,
    text         text NOT NULL,
    published_at timestamptz NOT NULL,
    published_by text NOT NULL,
    withdrawn    boolean NOT NULL DEFAULT false,
    PRIMARY KEY (kind, name, version)
);

-- Counts up with everything published, withdrawn or sealed; what a node knows is compared with it.
CREATE TABLE catalog (
    one        boolean DEFAULT true PRIMARY KEY,
    generation bigint NOT NULL,
    CHECK (one)
);
INSERT INTO catalog (generation) VALUES (1);


-- Alerts, by days
-- ===============

-- The days that have begun. A number below `bound_seq` belongs to that day or an earlier one; `last_seq` is the last that was drawn,
-- once the day is over. Numbers go on from one day to the next, each day in a range of its own.
CREATE TABLE alert_day (
    first_seq bigint PRIMARY KEY,
    bound_seq bigint NOT NULL,
    begun_at  timestamptz NOT NULL,
    last_seq  bigint
);
INSERT INTO alert_day (first_seq, bound_seq, begun_at) VALUES (0, 1000000000, now());

-- An alert as it came; `key_order` is the order of its payload's keys where that is not the database's. There is a table for each day,
-- so that a day is dropped and not deleted. An id is unique within its source and day.
CREATE SEQUENCE alert_seq_seq;
CREATE TABLE alerts (
    seq       bigint DEFAULT nextval('alert_seq_seq') PRIMARY KEY,
    source    text NOT NULL,
    id        text NOT NULL,
    kind      text NOT NULL,
    severity  smallint NOT NULL,
    state     text NOT NULL,
    resource  text NOT NULL,
    time      timestamptz NOT NULL,
    received  timestamptz NOT NULL,
    summary   text NOT NULL,
    value     double precision,
    labels    jsonb NOT NULL,
    body      jsonb NOT NULL,
    key_order text
) PARTITION BY RANGE (seq);
CREATE INDEX alerts_received ON alerts USING brin (received);
CREATE INDEX alerts_resource ON alerts (resource, seq);
CREATE TABLE alerts_0 PARTITION OF alerts FOR VALUES FROM (MINVALUE) TO (1000000000);
CREATE UNIQUE INDEX alerts_0_id ON alerts_0 (source, id);

-- What a rule decided about an alert, in the table of the alert's day.
CREATE TABLE verdicts (
    alert_seq    bigint NOT NULL,
    rule         text NOT NULL,
    rule_version int NOT NULL,
    verdict      text NOT NULL,
    reason       text NOT NULL,
    job_id       bigint,
    at           timestamptz NOT NULL,
    tally        text NOT NULL DEFAULT '',
    decided_at   timestamptz,
    PRIMARY KEY (alert_seq, rule)
) PARTITION BY RANGE (alert_seq);
CREATE INDEX verdicts_dispatched ON verdicts (at) WHERE verdict = 'dispatched';
CREATE INDEX verdicts_of_rule ON verdicts (rule, alert_seq);
CREATE INDEX verdicts_tally ON verdicts (rule, tally, alert_seq);
CREATE TABLE verdicts_0 PARTITION OF verdicts FOR VALUES FROM (MINVALUE) TO (1000000000);

-- What stands, or stood, at a resource: the alerts of one source, resource and kind.
CREATE TABLE alarm (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    source     text NOT NULL,
    resource   text NOT NULL,
    kind       text NOT NULL,
    severity   smallint NOT NULL,
    state      text NOT NULL,
    summary    text NOT NULL,
    value      double precision,
    count      bigint NOT NULL,
    raised_at  timestamptz NOT NULL,
    changed_at timestamptz NOT NULL,
    cleared_at timestamptz,
    told_at    timestamptz,
    UNIQUE (source, resource, kind)
) WITH (fillfactor=70, autovacuum_vacuum_scale_factor=0.05);
CREATE INDEX alarm_open ON alarm (severity DESC, raised_at) WHERE state = 'raised';
CREATE INDEX alarm_over ON alarm (changed_at) WHERE state = 'cleared';

-- What could not be read, kept until it can; `beside` is what the intake offered to expressions besides the body. An `item` is an alert
-- of a payload of which others could be read.
CREATE TABLE unreadable (
    id       bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    source   text NOT NULL,
    received timestamptz NOT NULL,
    reason   text NOT NULL,
    payload  text NOT NULL,
    item     boolean NOT NULL DEFAULT false,
    beside   jsonb
);
CREATE INDEX unreadable_received ON unreadable (received);
CREATE INDEX unreadable_source ON unreadable (source, id);


-- What rules remember
-- ===================

-- What a rule remembers for one key. `alarms` finds the tallies of a cleared alarm. What is due and cannot be handled is set aside, and
-- tried again at the time of `due`.
CREATE TABLE tally (
    rule        text NOT NULL,
    key         text NOT NULL,
    state       jsonb NOT NULL,
    alarms      bigint[] NOT NULL,
    due         timestamptz,
    aside       text,
    aside_tries int NOT NULL DEFAULT 0,
    PRIMARY KEY (rule, key)
) WITH (fillfactor=70, autovacuum_vacuum_scale_factor=0.05);
CREATE INDEX tally_alarms ON tally USING gin (alarms);
CREATE INDEX tally_aside ON tally (rule) WHERE aside IS NOT NULL;
CREATE INDEX tally_due ON tally (due) WHERE due IS NOT NULL;

-- What tallies of a rule share: gatherings and caps.
CREATE TABLE pool (
    rule        text NOT NULL,
    key         text NOT NULL,
    state       jsonb,
    due         timestamptz,
    aside       text,
    aside_tries int NOT NULL DEFAULT 0,
    PRIMARY KEY (rule, key)
) WITH (fillfactor=70, autovacuum_vacuum_scale_factor=0.05);
CREATE INDEX pool_aside ON pool (rule) WHERE aside IS NOT NULL;
CREATE INDEX pool_due ON pool (due) WHERE due IS NOT NULL;

-- The alerts for which a job was dispatched, where it is for several. `job_id` is that of a proposal as well, whose number is that of its
-- job.
CREATE TABLE gathered (
    job_id    bigint NOT NULL,
    alert_seq bigint NOT NULL,
    alarm_id  bigint,
    PRIMARY KEY (job_id, alert_seq)
);
CREATE INDEX gathered_alarm ON gathered (alarm_id, job_id DESC) WHERE alarm_id IS NOT NULL;

-- What a rule would dispatch if a person agrees. One that is launched becomes the job of the same number; `tallies` are told of the
-- decision.
CREATE TABLE proposal (
    id              bigint PRIMARY KEY,
    rule            text NOT NULL,
    rule_version    int NOT NULL,
    runbook         text NOT NULL,
    runbook_version int NOT NULL,
    inputs          jsonb NOT NULL,
    target          text NOT NULL,
    urgency         smallint NOT NULL,
    deadline_ms     bigint,
    alert_seq       bigint,
    alarm_id        bigint,
    reason          text NOT NULL,
    state           text NOT NULL,
    created_at      timestamptz NOT NULL,
    decided_at      timestamptz,
    decided_by      text,
    note            text,
    first_id        bigint,
    tallies         text[] NOT NULL DEFAULT '{}'
);
CREATE INDEX proposal_open ON proposal (id) WHERE state = 'open';
CREATE INDEX proposal_rule ON proposal (rule, id);


-- Events that leave
-- =================

-- Events that are still to enter as alerts of the source `arvok`, written with what they tell of; gone once they have.
CREATE TABLE outbox (
    number bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    id     text NOT NULL,
    kind   text NOT NULL,
    at     timestamptz NOT NULL,
    job_id bigint NOT NULL,
    alert  jsonb NOT NULL,
    taken  timestamptz
);

-- Which node lets events enter at the moment; if nothing was heard of it, another does.
CREATE TABLE outbox_turn (
    node  text NOT NULL,
    until timestamptz NOT NULL
) WITH (fillfactor=10);
INSERT INTO outbox_turn VALUES ('', '-infinity');

-- Those to whom events of jobs and decisions leave, as far as it is not written in a document.
CREATE TABLE subscriber (
    name         text PRIMARY KEY,
    address      text NOT NULL,
    asked_at     timestamptz,
    confirmed_at timestamptz,
    gone         boolean NOT NULL DEFAULT false,
    rate         int,
    next_at      timestamptz NOT NULL DEFAULT now(),
    failures     int NOT NULL DEFAULT 0,
    failure      text,
    delivered    bigint NOT NULL DEFAULT 0,
    delivered_at timestamptz,
    left_out     bigint NOT NULL DEFAULT 0
);

-- Events on their way to one of them: `waiting`, `delivered`, `given-up`.
CREATE TABLE outgoing (
    number     bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    subscriber text NOT NULL,
    event_id   text NOT NULL,
    event      jsonb NOT NULL,
    state      text NOT NULL DEFAULT 'waiting',
    queued_at  timestamptz NOT NULL DEFAULT now(),
    tries      int NOT NULL DEFAULT 0,
    next_at    timestamptz NOT NULL DEFAULT now(),
    taken      timestamptz,
    status     int,
    failure    text,
    ended_at   timestamptz,
    UNIQUE (subscriber, event_id)
);
CREATE INDEX outgoing_ended ON outgoing (subscriber, state, number) WHERE state <> 'waiting';
CREATE INDEX outgoing_waiting ON outgoing (subscriber, number) WHERE state = 'waiting';


-- Jobs
-- ====

-- A job. It is held by the number of its claim (`claim`), as long as the lease lasts, and counts how often a lease was lost without a
-- step forward (`lapses`). `word` is what a person said and it has not heard yet; `posts` counts what has come for it from outside.
-- `parent` and `parent_place` say of which step of which job it is; `holds` whether it keeps others from its target; `chain` the rules
-- through whose jobs' events it came to be; `aside` that something stands in its way (`store/jobs/aside`).
CREATE SEQUENCE job_number;
CREATE SEQUENCE claim_number;
CREATE TABLE job (
    id              bigint PRIMARY KEY,
    runbook         text NOT NULL,
    runbook_version int NOT NULL,
    inputs          jsonb NOT NULL,
    target          text NOT NULL,
    urgency         smallint NOT NULL,
    deadline        timestamptz,
    state           text NOT NULL,
    effect          text,
    failure         text,
    outputs         jsonb,
    rule            text,
    rule_version    int,
    alert_seq       bigint,
    alarm_id        bigint,
    progress        jsonb NOT NULL,
    created_at      timestamptz NOT NULL,
    started_at      timestamptz,
    finished_at     timestamptz,
    wake_at         timestamptz,
    node            text,
    lease_until     timestamptz,
    reason          text,
    claim           bigint,
    lapses          int NOT NULL DEFAULT 0,
    begun           boolean NOT NULL DEFAULT false,
    steps_done      int NOT NULL DEFAULT 0,
    steps           int NOT NULL DEFAULT 0,
    doing           text NOT NULL DEFAULT '',
    waits_for_alarm boolean NOT NULL DEFAULT false,
    word            jsonb,
    word_number     int NOT NULL DEFAULT 0,
    launched_by     text,
    launch_key      text,
    claims          int NOT NULL DEFAULT 0,
    posts           int NOT NULL DEFAULT 0,
    outside         boolean NOT NULL DEFAULT false,
    parent          bigint,
    parent_place    text,
    root            bigint,
    depth           smallint NOT NULL DEFAULT 0,
    holds           boolean NOT NULL DEFAULT true,
    chain           jsonb,
    aside           boolean,
    seen_by         text,
    seen_at         timestamptz,
    goes_on_as      bigint
) WITH (fillfactor=80, autovacuum_vacuum_scale_factor=0.05);
CREATE INDEX job_alarm ON job (alarm_id, id);
CREATE INDEX job_alive ON job (runbook)
    WHERE state IN ('running', 'waiting', 'paused', 'unsure') AND parent IS NULL;
CREATE INDEX job_aside ON job (target, urgency DESC, deadline, id) WHERE state = 'queued' AND aside;
CREATE INDEX job_aside_of ON job (runbook, urgency DESC, deadline, id)
    WHERE state = 'queued' AND aside AND parent IS NULL;
CREATE UNIQUE INDEX job_child ON job (parent, parent_place) WHERE parent IS NOT NULL;
CREATE INDEX job_children_alive ON job (parent)
    WHERE parent IS NOT NULL AND state IN ('queued', 'running', 'waiting', 'paused', 'unsure');
CREATE INDEX job_created ON job (created_at);
CREATE INDEX job_deadline ON job (deadline) WHERE state = 'queued' AND deadline IS NOT NULL;
CREATE INDEX job_ended ON job (finished_at) WHERE finished_at IS NOT NULL;
CREATE UNIQUE INDEX job_launch ON job (launched_by, launch_key) WHERE launch_key IS NOT NULL;
CREATE INDEX job_of_target ON job (target, id);
CREATE INDEX job_ready ON job (urgency DESC, deadline, id)
    WHERE state = 'queued' AND aside IS NOT TRUE;
CREATE INDEX job_rule ON job (rule, id);
CREATE INDEX job_runbook ON job (runbook, id);
CREATE INDEX job_running ON job (lease_until) WHERE state = 'running';
CREATE UNIQUE INDEX job_target ON job (target)
    WHERE holds AND state IN ('running', 'waiting', 'paused', 'unsure');
CREATE INDEX job_troubled ON job (created_at)
    WHERE state IN ('failed', 'refused', 'expired', 'unsure') OR effect = 'unconfirmed';
CREATE INDEX job_waking ON job (wake_at) WHERE state = 'waiting';
CREATE INDEX job_word ON job (id) WHERE word IS NOT NULL AND state IN ('paused', 'unsure');

-- The tries of a job's steps, each by the place of its step.
CREATE TABLE attempt (
    job_id      bigint NOT NULL,
    attempt     int NOT NULL,
    state       text NOT NULL,
    started_at  timestamptz NOT NULL,
    finished_at timestamptz,
    give        jsonb NOT NULL,
    output      jsonb,
    error       text,
    place       text NOT NULL,
    request     jsonb,
    answer      jsonb,
    saw         jsonb,
    PRIMARY KEY (job_id, place, attempt)
);

-- What jobs have become, until it has entered as an alert; numbered with the outbox.
CREATE TABLE job_change (
    number  bigint DEFAULT nextval('outbox_number_seq') PRIMARY KEY,
    at      timestamptz NOT NULL DEFAULT clock_timestamp(),
    job_id  bigint NOT NULL,
    word    text NOT NULL,
    state   text NOT NULL,
    effect  text,
    failure text
);


-- What jobs wait for outside of themselves
-- ========================================

-- A question to people.
CREATE TABLE decision (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    job_id     bigint NOT NULL,
    place      text NOT NULL,
    decider    jsonb NOT NULL,
    text       text NOT NULL,
    choices    jsonb NOT NULL,
    silence    text,
    asked_at   timestamptz NOT NULL,
    until      timestamptz NOT NULL,
    state      text NOT NULL DEFAULT 'open',
    choice     text,
    decided_by text,
    how        text,
    remark     text,
    decided_at timestamptz,
    by_link    boolean NOT NULL DEFAULT true,
    UNIQUE (job_id, place)
);
CREATE INDEX decision_asked ON decision (asked_at, id);
CREATE INDEX decision_open ON decision (until) WHERE state = 'open';

-- Events that jobs wait for, each under the texts by which it is looked up. `horizon` is the first transaction that surely sees it: what
-- was recorded by earlier ones is looked for once more when all of these are over.
CREATE TABLE wait (
    job_id  bigint NOT NULL,
    place   text NOT NULL,
    key     text NOT NULL,
    chosen  jsonb NOT NULL,
    since   timestamptz NOT NULL,
    horizon xid8,
    settled boolean NOT NULL DEFAULT false,
    looked  bigint NOT NULL DEFAULT 0,
    called  boolean NOT NULL DEFAULT false,
    PRIMARY KEY (job_id, place, key)
);
CREATE INDEX wait_key ON wait (key);
CREATE INDEX wait_uncalled ON wait (horizon) WHERE (NOT settled) AND (NOT called);

-- Alerts that may be what a job waits for.
CREATE TABLE heard (
    id        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    job_id    bigint NOT NULL,
    place     text NOT NULL,
    alert_seq bigint NOT NULL,
    told      boolean NOT NULL DEFAULT false
);
CREATE INDEX heard_of ON heard (job_id, place, alert_seq);
CREATE INDEX heard_untold ON heard (id) WHERE NOT told;

-- Alerts of which is not found out yet which jobs wait for them: that is done outside of the intake's transaction.
CREATE TABLE unheard (
    alert_seq bigint PRIMARY KEY
);


-- Calls
-- =====

-- The last calls of each connection: which operation, for which step or person, how long it took and how it ended.
CREATE TABLE call (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    connection text NOT NULL,
    operation  text NOT NULL,
    job_id     bigint,
    place      text,
    attempt    int,
    by         text,
    at         timestamptz NOT NULL,
    millis     int NOT NULL,
    ended      text NOT NULL,
    message    text
);
CREATE INDEX call_at ON call (at);
CREATE INDEX call_of ON call (connection, id);

-- A call that is out, where a connection allows so many at once; it ends by itself at `until`.
CREATE TABLE call_slot (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    connection text NOT NULL,
    until      timestamptz NOT NULL,
    holder     text
);
CREATE UNIQUE INDEX call_slot_holder ON call_slot (connection, holder) WHERE holder IS NOT NULL;
CREATE INDEX call_slot_of ON call_slot (connection, until);

-- From when on the next call may begin, where a connection allows so many within a time.
CREATE TABLE call_rate (
    connection text PRIMARY KEY,
    next_at    timestamptz NOT NULL
);

-- Who waits for a call's turn, by urgency and then by time. Who is told and does not come is passed over until it asks again.
CREATE TABLE call_queue (
    connection text NOT NULL,
    holder     text NOT NULL,
    job_id     bigint,
    place      text,
    urgency    smallint NOT NULL,
    since      timestamptz NOT NULL,
    asked_at   timestamptz NOT NULL,
    told_at    timestamptz,
    PRIMARY KEY (connection, holder)
);
CREATE INDEX call_queue_job ON call_queue (job_id) WHERE job_id IS NOT NULL;
CREATE INDEX call_queue_order ON call_queue (connection, urgency DESC, since, holder);


-- Counts, so that nothing is counted row by row
-- =============================================

-- How often each verdict was given, by rule and hour.
CREATE TABLE verdict_count (
    rule    text NOT NULL,
    verdict text NOT NULL,
    hour    timestamptz NOT NULL,
    shard   int NOT NULL,
    count   bigint NOT NULL,
    last_at timestamptz NOT NULL,
    PRIMARY KEY (rule, verdict, hour, shard)
);

-- Alerts by minute and by how far any rule took them (`how_far`).
CREATE TABLE alert_count (
    minute timestamptz NOT NULL,
    how    smallint NOT NULL,
    shard  int NOT NULL,
    count  bigint NOT NULL,
    PRIMARY KEY (minute, how, shard)
);

-- Deliveries by source and minute.
CREATE TABLE delivery_count (
    source     text NOT NULL,
    minute     timestamptz NOT NULL,
    shard      smallint NOT NULL,
    alerts     bigint NOT NULL DEFAULT 0,
    repeated   bigint NOT NULL DEFAULT 0,
    unreadable bigint NOT NULL DEFAULT 0,
    conflicts  bigint NOT NULL DEFAULT 0,
    last_at    timestamptz,
    PRIMARY KEY (source, minute, shard)
);
CREATE INDEX delivery_count_minute ON delivery_count (minute);

-- Jobs by runbook and rule, and how many were confirmed.
CREATE TABLE job_count (
    runbook   text NOT NULL,
    rule      text NOT NULL,
    shard     int NOT NULL,
    jobs      bigint NOT NULL,
    confirmed bigint NOT NULL,
    last_at   timestamptz NOT NULL,
    PRIMARY KEY (runbook, rule, shard)
);
