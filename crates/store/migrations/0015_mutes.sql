-- Mutes: what one covers no rule acts on by itself, from a time until another. `lines` is what it
-- covers, as written. What was held by one that was lifted before its time is looked at anew once
-- (`released`).
CREATE TABLE mute (
    id          bigint      GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    lines       jsonb       NOT NULL,
    by          principal   NOT NULL,
    reason      text        NOT NULL,
    created_at  timestamptz NOT NULL DEFAULT now(),
    from_at     timestamptz NOT NULL,
    until_at    timestamptz NOT NULL CHECK (until_at > from_at),
    lifted_at   timestamptz,
    lifted_by   principal,
    released    boolean     NOT NULL DEFAULT false
);
CREATE INDEX mute_open ON mute (until_at) WHERE lifted_at IS NULL;
CREATE INDEX mute_unreleased ON mute (id) WHERE lifted_at IS NOT NULL AND NOT released;
ALTER TABLE verdicts DROP CONSTRAINT verdicts_verdict_word;
ALTER TABLE verdicts ADD CONSTRAINT verdicts_verdict_word CHECK (verdict IN ('dispatched', 'proposed', 'watched', 'idle', 'folded',
    'waiting', 'resting', 'capped', 'flapping', 'muted', 'symptom', 'broken')) NOT VALID;
-- A node that knows no mutes would act on what is muted.
UPDATE migration_floor SET migration = '0015_mutes';
