-- Alerts in the order in which they were received: the search for events that a job waits for begins
-- at a time, and must not read what was received before it, however much that is.
DROP INDEX alerts_received;
CREATE INDEX alerts_received ON alerts (received, seq);
-- A search that is under way goes by that order from its beginning.
UPDATE wait SET looked = 0 WHERE NOT settled;
