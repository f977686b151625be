-- What jobs have touched: the resources that their calls change, as operations name them.
CREATE TABLE touch (
    resource text        NOT NULL,
    job_id   bigint      NOT NULL,
    place    text        NOT NULL,
    at       timestamptz NOT NULL,
    PRIMARY KEY (job_id, resource, place)
) WITH (fillfactor=80, autovacuum_vacuum_scale_factor=0.05);
CREATE INDEX touch_resource ON touch (resource, at DESC);
CREATE INDEX touch_old ON touch (at);
