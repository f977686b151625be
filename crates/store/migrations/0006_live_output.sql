-- What the calls of jobs have written so far, while they run: the last lines. It is shown to people
-- and nothing depends on it, so that it need not outlive the database: what is over has its answer
-- with its try.
CREATE UNLOGGED TABLE live_output (
    job_id     bigint      NOT NULL,
    place      text        NOT NULL,
    attempt    integer     NOT NULL,
    lines      text        NOT NULL,
    line_count bigint      NOT NULL,
    written_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (job_id, place, attempt)
);
