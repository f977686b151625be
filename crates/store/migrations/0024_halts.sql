-- Halts of some jobs beside that of all: `is_one` is the one of all. Of the lines that are written
-- as regular expressions each must hold; `covers` has them as they were written.
ALTER TABLE halt DROP CONSTRAINT halt_pkey;
ALTER TABLE halt ALTER COLUMN is_one DROP NOT NULL;
ALTER TABLE halt ADD UNIQUE (is_one);
ALTER TABLE halt ADD COLUMN id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY;
ALTER TABLE halt ADD COLUMN covers jsonb;
ALTER TABLE halt ADD COLUMN runbooks text[];
ALTER TABLE halt ADD COLUMN rules text[];
ALTER TABLE halt ADD COLUMN targets text[];
ALTER TABLE halt ADD CHECK ((is_one IS NULL) = (covers IS NOT NULL));
