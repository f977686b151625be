-- Of alerts that a job has not read at most a thousand a step are noted. Whoever reads so many looks at what is stored for
-- the rest.
CREATE OR REPLACE FUNCTION alerts_heard() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF EXISTS (SELECT 1 FROM wait) THEN
        WITH may AS (SELECT DISTINCT w.job_id, w.place, n.seq FROM given n
                CROSS JOIN LATERAL (VALUES ('r' || n.resource), ('k' || n.kind), ('s' || n.source), ('*')) AS k (key)
                JOIN wait w ON w.key = k.key),
            room AS (SELECT m.job_id, m.place FROM (SELECT DISTINCT job_id, place FROM may) m
                WHERE (SELECT count(*) FROM (SELECT 1 FROM heard h
                    WHERE h.job_id = m.job_id AND h.place = m.place LIMIT 1000) noted) < 1000)
        INSERT INTO heard (job_id, place, alert_seq) SELECT may.job_id, may.place, may.seq FROM may JOIN room USING (job_id, place);
    END IF;
    RETURN NULL;
END $$;
