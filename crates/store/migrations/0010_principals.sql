-- Who did something is an id with its kind, one text: `token/pat` (`core/principal`).
CREATE DOMAIN principal AS text CONSTRAINT principal_kind CHECK (VALUE ~ '^(token|link|node|stranger)/.');

ALTER TABLE audit ADD COLUMN by principal;
UPDATE audit SET by = by_kind || '/' || coalesce(nullif(CASE by_kind WHEN 'link'
        THEN regexp_replace(by_name, ' \(by link, not signed in\)$', '') ELSE by_name END, ''), '?');
ALTER TABLE audit ALTER COLUMN by SET NOT NULL, DROP COLUMN by_kind, DROP COLUMN by_name;

-- All of these were names of tokens, but who halted all jobs or decided may have been another.
ALTER TABLE halt ALTER COLUMN by TYPE principal USING CASE
        WHEN by IN ('serve --hold-jobs', 'serve --new-key') THEN 'node/' ELSE 'token/' END || by;
ALTER TABLE decision ALTER COLUMN decided_by TYPE principal USING CASE how
        WHEN 'link' THEN 'link/' || regexp_replace(decided_by, ' \(by link, not signed in\)$', '')
        ELSE 'token/' || decided_by END;
ALTER TABLE secret_approval ALTER COLUMN approved_by TYPE principal USING CASE approved_by
        WHEN 'the start of this release' THEN 'node/' ELSE 'token/' END || approved_by;
ALTER TABLE definition ALTER COLUMN published_by TYPE principal USING 'token/' || published_by;
ALTER TABLE proposal ALTER COLUMN decided_by TYPE principal USING 'token/' || decided_by;
ALTER TABLE job ALTER COLUMN launched_by TYPE principal USING 'token/' || launched_by,
    ALTER COLUMN seen_by TYPE principal USING 'token/' || seen_by;
ALTER TABLE call ALTER COLUMN by TYPE principal USING 'token/' || by;
ALTER TABLE host_key ALTER COLUMN trusted_by TYPE principal USING 'token/' || trusted_by;
-- Whoever wrote mere names cannot go on here.
UPDATE migration_floor SET migration = '0010_principals';
