-- +goose Up
-- What is to be summed is written down where it comes up, so that nobody looks through a year for it.
CREATE TABLE due_days (
    host_id integer NOT NULL,
    day     timestamptz NOT NULL,
    PRIMARY KEY (host_id, day)
);
INSERT INTO due_days
    SELECT DISTINCT host_id, date_trunc('day', start, 'UTC') FROM hour_leaves WHERE section = 'host'
    EXCEPT SELECT host_id, start FROM day_leaves WHERE section = 'host';
CREATE TABLE due_peaks (
    hour timestamptz PRIMARY KEY
);
INSERT INTO due_peaks
    SELECT DISTINCT date_trunc('hour', minute, 'UTC') FROM tenant_minute EXCEPT SELECT hour FROM peak_hours;

-- Of one host, its minutes are found by the key; of all, those of a span by when they were written.
ALTER TABLE tenant_minute DROP CONSTRAINT tenant_minute_pkey;
ALTER TABLE tenant_minute ADD PRIMARY KEY (host_id, minute, tenant_id);
CREATE INDEX tenant_minute_when ON tenant_minute USING brin (minute) WITH (pages_per_range = 16);

-- +goose Down
DROP INDEX tenant_minute_when;
ALTER TABLE tenant_minute DROP CONSTRAINT tenant_minute_pkey;
ALTER TABLE tenant_minute ADD PRIMARY KEY (minute, host_id, tenant_id);
DROP TABLE due_days, due_peaks;
