-- The keys of machines that an admin has trusted: by connection, and by machine with its port.
CREATE TABLE host_key (
    connection  text        NOT NULL,
    machine     text        NOT NULL,
    algorithm   text        NOT NULL,
    fingerprint text        NOT NULL,
    trusted_by  text        NOT NULL,
    trusted_at  timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (connection, machine)
);
