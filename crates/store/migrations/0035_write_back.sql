-- What people did about an alarm is done at its sender as well, where its source says how. An act has a state if it is to be; who sends it
-- counts his try, and has it until `next_at`.
ALTER TABLE alarm_act
    ADD COLUMN sending  text CONSTRAINT alarm_act_sending_word CHECK (sending IN ('waiting', 'under-way', 'done', 'failed', 'unknown')),
    ADD COLUMN tries    int NOT NULL DEFAULT 0,
    ADD COLUMN next_at  timestamptz,
    ADD COLUMN ended_at timestamptz,
    ADD COLUMN reason   text;
CREATE INDEX alarm_act_to_send ON alarm_act (next_at) WHERE sending IN ('waiting', 'under-way');
-- Older nodes would not send what people do.
UPDATE migration_floor SET migration = '0035_write_back';
