-- Who may answer a question by mail: addresses and globs.
ALTER TABLE decision ADD COLUMN by_mail jsonb NOT NULL DEFAULT '[]';
-- Whoever has answered by mail is one of those who do something.
ALTER DOMAIN principal DROP CONSTRAINT principal_kind;
ALTER DOMAIN principal ADD CONSTRAINT principal_kind CHECK (VALUE ~ '^(token|link|mail|node|stranger)/.');
