-- What whoever has a token may let act by itself: names and globs of rules, plans and connections.
-- An admin may let anything act. Authors keep what they could so far.
ALTER TABLE token ADD COLUMN automate jsonb NOT NULL DEFAULT '{}';
UPDATE token SET automate = '{"rules": ["*"], "plans": ["*"], "connections": ["*"]}' WHERE role = 'author';
