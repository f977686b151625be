-- What one node does at a time, by name: whoever holds it, and until when. One that has passed is
-- anybody's.
CREATE TABLE lease (
    name        text        PRIMARY KEY,
    holder      text        NOT NULL,
    until       timestamptz NOT NULL
);
-- Why no answers by mail come to a node.
ALTER TABLE node ADD COLUMN answers_fault text;
