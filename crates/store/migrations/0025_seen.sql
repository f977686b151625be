-- Who has seen that a job ended badly, and when: it is set aside from what needs a person. And the job that goes on from where this
-- one failed, so that two people who ask for it at once make one.
ALTER TABLE job ADD COLUMN seen_by text, ADD COLUMN seen_at timestamptz, ADD COLUMN goes_on_as bigint;
