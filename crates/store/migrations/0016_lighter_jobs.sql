-- What jobs have become is numbered by the sequence of the outbox itself; to look its name up took longer than the row.
DO $$ BEGIN
    EXECUTE format('ALTER TABLE job_change ALTER number SET DEFAULT nextval(%L)',
        pg_get_serial_sequence('outbox', 'number')::regclass);
END $$;
