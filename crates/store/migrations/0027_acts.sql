-- What people did to a job is shown with it.
CREATE INDEX audit_what ON audit (what, id) WHERE what LIKE 'job %';
