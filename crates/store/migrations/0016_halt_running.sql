-- Whether a halt holds what is under way as well, and which jobs it may have to let go on.
ALTER TABLE halt ADD COLUMN running boolean NOT NULL DEFAULT false;
CREATE INDEX job_paused ON job (id) WHERE state = 'paused';
