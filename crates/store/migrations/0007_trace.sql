-- Trace context (W3C Trace Context): the span of its sender that an alert names, the span of a job,
-- and that of a call. Each is a `traceparent`; jobs of before have none.
ALTER TABLE alerts ADD COLUMN trace text;
ALTER TABLE job ADD COLUMN trace text;
ALTER TABLE call ADD COLUMN trace text;
