-- How far a job is stands in words that nodes of before do not read (calls that wait for their turn, steps that stand from another job):
-- they claim no more jobs, and go on with the rest of their work.
ALTER FUNCTION job_due(bigint[], text[], int[], int) RENAME TO jobs_due;
CREATE FUNCTION job_due(alive bigint[], runbooks text[], most int[], several int) RETURNS SETOF job LANGUAGE sql STABLE AS $$
    SELECT * FROM job WHERE false
$$;
CREATE OR REPLACE FUNCTION job_due(alive bigint[], runbooks text[], most int[]) RETURNS SETOF job LANGUAGE plpgsql AS $$
BEGIN
    RETURN;
END $$;
