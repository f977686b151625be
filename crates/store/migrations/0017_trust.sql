-- Whether whoever has the link to a question may decide without signing in. Those that are asked already, and those that
-- nodes of the release before ask, may be decided so.
ALTER TABLE decision ADD COLUMN by_link boolean NOT NULL DEFAULT true;

-- A value sealed with the key of the secrets: whoever cannot open it has another key.
CREATE TABLE key_check (
    is_one boolean PRIMARY KEY DEFAULT true CHECK (is_one),
    sealed bytea NOT NULL
);

-- Names of tokens that were revoked: they are not made again, so that a name in the records is one token's.
CREATE TABLE token_gone (
    name text PRIMARY KEY,
    revoked_at timestamptz NOT NULL DEFAULT now()
);

-- To which addresses, and under which authorities, an admin lets a secret go.
CREATE TABLE secret_approval (
    secret text NOT NULL,
    connection text NOT NULL,
    shown_to jsonb NOT NULL,
    approved_by text NOT NULL,
    approved_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (secret, connection, shown_to)
);

-- What was done that decides what others may do, and who was refused. The same within an hour is counted.
CREATE TABLE audit (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at timestamptz NOT NULL DEFAULT now(),
    by_kind text NOT NULL,
    by_name text NOT NULL,
    act text NOT NULL,
    what text NOT NULL,
    detail text NOT NULL DEFAULT '',
    times bigint NOT NULL DEFAULT 1,
    -- What makes two of a kind one; none: each counts for itself.
    same text UNIQUE
);
CREATE INDEX audit_at ON audit (at);
