-- Queued jobs in the order in which they begin: of each urgency those whose deadline is nearest, and
-- last those without one. With one expression for both, a search begins behind those whose deadline
-- has passed, however many of these wait to be ended.
DROP INDEX job_ready, job_aside, job_aside_of;
CREATE INDEX job_ready ON job (urgency DESC, coalesce(deadline, 'infinity'), id)
    WHERE state = 'queued' AND aside IS NOT TRUE;
CREATE INDEX job_aside ON job (target, urgency DESC, coalesce(deadline, 'infinity'), id)
    WHERE state = 'queued' AND aside;
CREATE INDEX job_aside_of ON job (runbook, urgency DESC, coalesce(deadline, 'infinity'), id)
    WHERE state = 'queued' AND aside AND parent IS NULL;
