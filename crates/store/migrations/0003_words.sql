-- Columns that hold one of a list of words hold no other. What stands is not looked through for it,
-- so that no table is held for long.
ALTER TABLE alerts ADD CONSTRAINT alerts_state_word CHECK (state IN ('raised', 'cleared', 'noted')) NOT VALID;
ALTER TABLE verdicts ADD CONSTRAINT verdicts_verdict_word CHECK (verdict IN ('dispatched', 'proposed', 'watched', 'idle', 'folded',
    'waiting', 'resting', 'capped', 'flapping', 'symptom', 'broken')) NOT VALID;
ALTER TABLE alarm ADD CONSTRAINT alarm_state_word CHECK (state IN ('raised', 'cleared', 'noted')) NOT VALID;
ALTER TABLE job ADD CONSTRAINT job_state_word CHECK (state IN ('queued', 'running', 'waiting', 'paused', 'succeeded', 'failed',
        'cancelled', 'expired', 'refused', 'unsure')) NOT VALID,
    ADD CONSTRAINT job_effect_word CHECK (effect IN ('confirmed', 'unconfirmed', 'not checked')) NOT VALID;
ALTER TABLE job_change ADD CONSTRAINT job_change_state_word CHECK (state IN ('queued', 'running', 'waiting', 'paused', 'succeeded',
    'failed', 'cancelled', 'expired', 'refused', 'unsure')) NOT VALID;
ALTER TABLE attempt ADD CONSTRAINT attempt_state_word CHECK (state IN ('next', 'running', 'again', 'waiting', 'done', 'failed',
    'unsure', 'skipped', 'stopped', 'not run')) NOT VALID;
ALTER TABLE proposal ADD CONSTRAINT proposal_state_word CHECK (state IN ('open', 'launched', 'dismissed', 'withdrawn', 'faulty'))
    NOT VALID;
ALTER TABLE decision ADD CONSTRAINT decision_state_word CHECK (state IN ('open', 'taken', 'silent', 'withdrawn')) NOT VALID;
ALTER TABLE outgoing ADD CONSTRAINT outgoing_state_word CHECK (state IN ('waiting', 'delivered', 'given-up')) NOT VALID;
ALTER TABLE call ADD CONSTRAINT call_ended_word CHECK (ended IN ('done', 'later', 'not-sent', 'refused', 'unknown', 'useless'))
    NOT VALID;
ALTER TABLE token ADD CONSTRAINT token_role_word CHECK (role IN ('viewer', 'responder', 'author', 'admin')) NOT VALID;
