-- Halts: which jobs one concerns.

-- Whether a halt concerns a job: one without any line all. Lines are regular expressions that
-- `core/halt` makes of globs. Locks nothing.
CREATE OR REPLACE FUNCTION halt_concerns(h halt, j job) RETURNS boolean
    LANGUAGE sql STABLE COST 1 AS $$
    SELECT (h.runbooks IS NULL OR j.runbook ~ ANY (h.runbooks))
        AND (h.rules IS NULL OR coalesce(j.rule ~ ANY (h.rules), false))
        AND (h.targets IS NULL OR j.target ~ ANY (h.targets))
$$;

-- Whether any halt concerns a job; asked before whatever else is asked of it. Called where jobs are found, begun and recorded
-- (`store/jobs/claims`, `store/jobs/record`). Locks nothing.
CREATE OR REPLACE FUNCTION job_halted(j job) RETURNS boolean
    LANGUAGE sql STABLE COST 1 AS $$
    SELECT EXISTS (SELECT 1 FROM halt h WHERE halt_concerns(h, j))
$$;

-- Whether a halt that pauses what is under way concerns the job of this number. Called by the calls
-- of runners (`store/runners/calls`). Locks nothing.
CREATE OR REPLACE FUNCTION job_paused_by_halt(number bigint) RETURNS boolean
    LANGUAGE sql STABLE AS $$
    SELECT EXISTS (SELECT 1 FROM halt h WHERE h.running AND (h.is_one
        OR EXISTS (SELECT 1 FROM job j WHERE j.id = number AND halt_concerns(h, j))))
$$;
