-- Calls: turns at connections that allow so many at once, or so many within a time.

-- Who waits for a turn at a connection and would come if told, in their order. Called by the two
-- below; locks nothing.
CREATE OR REPLACE FUNCTION call_waiting(
    of_connection text
) RETURNS TABLE(holder text, job_id bigint, urgency smallint, since timestamptz, told boolean)
    LANGUAGE sql STABLE AS $$
    SELECT q.holder, q.job_id, q.urgency, q.since, q.told_at IS NOT NULL FROM call_queue q
    WHERE q.connection = of_connection AND (q.told_at IS NULL OR q.told_at > clock_timestamp() - interval '10 seconds')
        AND CASE WHEN q.job_id IS NULL THEN q.asked_at > clock_timestamp() - interval '5 seconds'
            ELSE EXISTS (SELECT 1 FROM job j WHERE j.id = q.job_id AND j.state IN ('running', 'waiting')) END
    ORDER BY q.urgency DESC, q.since, q.holder
    LIMIT 100
$$;

-- Takes a turn at a connection for a call: a slot and how long to wait until its time has come; or,
-- if there is none, a place in the queue and when to ask again. Called by `store/calls`; one at a
-- time for each connection, by a lock that ends with the transaction.
CREATE OR REPLACE FUNCTION call_turn(
    of_connection text, who text, of_job bigint, at_place text, most int, calls int, per float8, longest float8,
    OUT slot bigint, OUT wait float8, OUT again float8
) RETURNS record
    LANGUAGE plpgsql AS $$
DECLARE
    now_      timestamptz;
    mine      record;
    ahead     integer;
    out_      integer;
    first_end timestamptz;
    next_     timestamptz;
    share     float8 := per / calls;
    room_in   float8;
BEGIN
    PERFORM pg_advisory_xact_lock(hashtextextended('connection ' || of_connection, 0));
    now_ := clock_timestamp();
    DELETE FROM call_slot s WHERE s.connection = of_connection AND s.until < now_;
    -- That of a node that died goes on.
    UPDATE call_slot s SET until = now_ + make_interval(secs => longest)
        WHERE s.connection = of_connection AND s.holder = who RETURNING s.id INTO slot;
    IF slot IS NOT NULL AND most IS NOT NULL THEN
        DELETE FROM call_queue q WHERE q.connection = of_connection AND q.holder = who;
        wait := 0;
        RETURN;
    END IF;
    slot := NULL;
    SELECT coalesce((SELECT j.urgency FROM job j WHERE j.id = of_job), 32767)::smallint AS urgency,
        coalesce((SELECT q.since FROM call_queue q WHERE q.connection = of_connection AND q.holder = who), now_) AS since INTO mine;
    SELECT count(*) INTO ahead FROM call_waiting(of_connection) w WHERE w.holder <> who
        AND (-w.urgency, w.since, w.holder) < (-mine.urgency, mine.since, who);
    SELECT count(*), min(s.until) INTO out_, first_end FROM call_slot s WHERE s.connection = of_connection;
    SELECT greatest(r.next_at, now_) INTO next_ FROM call_rate r WHERE r.connection = of_connection;
    next_ := coalesce(next_, now_);
    room_in := coalesce(extract(epoch FROM next_ - now_) + ahead * share, 0);
    IF (most IS NULL OR out_ + ahead < most) AND room_in < 1 THEN
        DELETE FROM call_queue q WHERE q.connection = of_connection AND q.holder = who;
        wait := 0;
        IF calls IS NOT NULL THEN
            wait := extract(epoch FROM next_ - now_);
            INSERT INTO call_rate AS r (connection, next_at) VALUES (of_connection, next_ + make_interval(secs => share))
                ON CONFLICT (connection) DO UPDATE SET next_at = excluded.next_at;
        END IF;
        IF most IS NOT NULL THEN
            INSERT INTO call_slot (connection, until, holder)
                VALUES (of_connection, now_ + make_interval(secs => longest + wait), who) RETURNING id INTO slot;
        END IF;
        RETURN;
    END IF;
    INSERT INTO call_queue AS q (connection, holder, job_id, place, urgency, since, asked_at)
        VALUES (of_connection, who, of_job, at_place, mine.urgency, mine.since, now_)
        ON CONFLICT (connection, holder) DO UPDATE SET asked_at = now_, told_at = NULL, urgency = excluded.urgency;
    again := greatest(0.05, least(60, room_in - 0.5));
    IF most IS NOT NULL AND out_ + ahead >= most THEN
        -- It is told; only what holds a turn and died is not.
        again := greatest(again, least(15, coalesce(extract(epoch FROM first_end - now_) + 0.05, 1)));
    END IF;
END $$;

-- Gives a slot back and tells as many of those who wait as there is room for now; gives their jobs.
-- Called by `store/calls`, with the same lock.
CREATE OR REPLACE FUNCTION call_over(
    of_slot bigint, of_connection text, most int
) RETURNS TABLE(job_id bigint)
    LANGUAGE plpgsql AS $$
DECLARE
    free integer;
BEGIN
    PERFORM pg_advisory_xact_lock(hashtextextended('connection ' || of_connection, 0));
    DELETE FROM call_slot s WHERE s.id = of_slot;
    IF NOT EXISTS (SELECT 1 FROM call_queue q WHERE q.connection = of_connection) THEN
        RETURN;
    END IF;
    free := most - (SELECT count(*) FROM call_slot s WHERE s.connection = of_connection);
    RETURN QUERY UPDATE call_queue q SET told_at = clock_timestamp()
        FROM (SELECT w.holder, w.told FROM call_waiting(of_connection) w LIMIT greatest(free, 0)) n
        WHERE q.connection = of_connection AND q.holder = n.holder AND NOT n.told RETURNING q.job_id;
END $$;
