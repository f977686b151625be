-- What people did about alarms and said of them: an act of an alarm's state (RFC 8632, 4.4). They go
-- with the alarm.
CREATE TABLE alarm_act (
    id       bigint      GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    alarm_id bigint      NOT NULL REFERENCES alarm (id) ON DELETE CASCADE,
    at       timestamptz NOT NULL DEFAULT now(),
    by       principal   NOT NULL,
    act      text        NOT NULL CONSTRAINT alarm_act_act_word CHECK (act IN ('acknowledged', 'noted', 'cleared')),
    text     text        NOT NULL
);
CREATE INDEX alarm_act_of ON alarm_act (alarm_id, id);
