-- Definitions: every version stays.
CREATE TABLE definition (
    kind         text        NOT NULL,
    name         text        NOT NULL,
    version      int         NOT NULL,
    file         text        NOT NULL,
    text         text        NOT NULL,
    published_at timestamptz NOT NULL,
    published_by text        NOT NULL,
    PRIMARY KEY (kind, name, version)
);

CREATE TABLE token (
    id         bigint      GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name       text        NOT NULL UNIQUE,
    role       text        NOT NULL,
    hash       bytea       NOT NULL UNIQUE,
    created_at timestamptz NOT NULL
);

CREATE TABLE session (
    hash       bytea       PRIMARY KEY,
    token_id   bigint      NOT NULL REFERENCES token ON DELETE CASCADE,
    expires_at timestamptz NOT NULL
);

CREATE TABLE secret (
    name       text        PRIMARY KEY,
    sealed     bytea       NOT NULL,
    changed_at timestamptz NOT NULL
);

CREATE TABLE alert (
    seq      bigint           GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    source   text             NOT NULL,
    id       text             NOT NULL,
    kind     text             NOT NULL,
    severity smallint         NOT NULL,
    state    text             NOT NULL,
    resource text             NOT NULL,
    time     timestamptz      NOT NULL,
    received timestamptz      NOT NULL,
    summary  text             NOT NULL,
    value    double precision,
    labels   jsonb            NOT NULL,
    body     jsonb            NOT NULL,
    UNIQUE (source, id)
);
CREATE INDEX alert_resource ON alert (resource, seq);
CREATE INDEX alert_received ON alert USING brin (received);

CREATE TABLE alarm (
    id         bigint           GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    source     text             NOT NULL,
    resource   text             NOT NULL,
    kind       text             NOT NULL,
    severity   smallint         NOT NULL,
    state      text             NOT NULL,
    summary    text             NOT NULL,
    value      double precision,
    count      bigint           NOT NULL,
    raised_at  timestamptz      NOT NULL,
    changed_at timestamptz      NOT NULL,
    cleared_at timestamptz,
    UNIQUE (source, resource, kind)
);
CREATE INDEX alarm_open ON alarm (severity DESC, raised_at) WHERE state = 'raised';

-- What a rule remembers for one fold key. `alarms` finds the tallies of a cleared alarm.
CREATE TABLE tally (
    rule   text     NOT NULL,
    key    text     NOT NULL,
    state  jsonb    NOT NULL,
    alarms bigint[] NOT NULL,
    PRIMARY KEY (rule, key)
);
CREATE INDEX tally_alarms ON tally USING gin (alarms);

CREATE TABLE verdict (
    alert_seq    bigint      NOT NULL,
    rule         text        NOT NULL,
    rule_version int         NOT NULL,
    verdict      text        NOT NULL,
    reason       text        NOT NULL,
    job_id       bigint,
    at           timestamptz NOT NULL,
    PRIMARY KEY (alert_seq, rule)
);
CREATE INDEX verdict_rule ON verdict (rule, verdict);

CREATE SEQUENCE job_number;
CREATE TABLE job (
    id              bigint      PRIMARY KEY,
    runbook         text        NOT NULL,
    runbook_version int         NOT NULL,
    inputs          jsonb       NOT NULL,
    target          text        NOT NULL,
    urgency         smallint    NOT NULL,
    deadline        timestamptz,
    state           text        NOT NULL,
    effect          text,
    failure         text,
    outputs         jsonb,
    rule            text,
    rule_version    int,
    alert_seq       bigint,
    alarm_id        bigint,
    progress        jsonb       NOT NULL,
    created_at      timestamptz NOT NULL,
    started_at      timestamptz,
    finished_at     timestamptz,
    wake_at         timestamptz,
    node            text,
    lease_until     timestamptz
);
-- One job at a time on a target; the claim also asks, this makes it certain.
CREATE UNIQUE INDEX job_target ON job (target) WHERE state IN ('running', 'waiting', 'unsure');
CREATE INDEX job_queue ON job (urgency DESC, deadline, id) WHERE state = 'queued';
CREATE INDEX job_alarm ON job (alarm_id, id);
CREATE INDEX job_rule ON job (rule, id);
CREATE INDEX job_runbook ON job (runbook, id);

CREATE TABLE attempt (
    job_id      bigint      NOT NULL REFERENCES job ON DELETE CASCADE,
    step        int         NOT NULL,
    attempt     int         NOT NULL,
    state       text        NOT NULL,
    started_at  timestamptz NOT NULL,
    finished_at timestamptz,
    give        jsonb       NOT NULL,
    output      jsonb,
    error       text,
    PRIMARY KEY (job_id, step, attempt)
);

CREATE TABLE unreadable (
    id       bigint      GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    source   text        NOT NULL,
    received timestamptz NOT NULL,
    reason   text        NOT NULL,
    payload  text        NOT NULL
);
CREATE INDEX unreadable_source ON unreadable (source, id);

-- Deliveries by minute, for what leaves no other trace.
CREATE TABLE delivered (
    source   text        NOT NULL,
    minute   timestamptz NOT NULL,
    alerts   bigint      NOT NULL,
    repeated bigint      NOT NULL,
    PRIMARY KEY (source, minute)
);
