-- The oldest migration that a node has to know to work with this database: nodes that know it go on, also when later ones have
-- been made by a newer release. A migration that nodes of before cannot live with sets it to its own name.
CREATE TABLE migration_floor (is_one boolean PRIMARY KEY DEFAULT true CHECK (is_one), migration text NOT NULL);
INSERT INTO migration_floor (migration) VALUES ('0026_operation');

-- How long things are kept, for all nodes; a source's own time stands beside that of all. Without a row nobody has said it yet.
CREATE TABLE retention (
    what text NOT NULL,
    source text NOT NULL DEFAULT '',
    seconds bigint NOT NULL CHECK (seconds > 0),
    PRIMARY KEY (what, source)
);

-- While there is a row, no node begins a job or takes one up.
CREATE TABLE halt (
    is_one boolean PRIMARY KEY DEFAULT true CHECK (is_one),
    since timestamptz NOT NULL DEFAULT now(),
    by text NOT NULL,
    reason text NOT NULL
);
