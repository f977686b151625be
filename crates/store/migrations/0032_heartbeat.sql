-- Senders that say that they are alive: when each was heard of at last, whether it is missing, and
-- whether that was told.
CREATE TABLE heartbeat (
    source  text        NOT NULL,
    name    text        NOT NULL,
    last_at timestamptz NOT NULL,
    missing boolean     NOT NULL DEFAULT false,
    told    boolean     NOT NULL DEFAULT false,
    PRIMARY KEY (source, name)
) WITH (fillfactor=70);
CREATE INDEX heartbeat_untold ON heartbeat (last_at) WHERE missing AND NOT told;
-- Older nodes cannot take the heartbeats of these sources.
UPDATE migration_floor SET migration = '0032_heartbeat';
