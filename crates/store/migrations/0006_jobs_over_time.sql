-- Jobs by when they were dispatched: lists and the timeline look at a stretch of time.
CREATE INDEX job_created ON job (created_at);
