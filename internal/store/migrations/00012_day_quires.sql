-- +goose Up
-- The hours of a day that was summed are bound in one quire: a leaf whose intervals are the sums of those hours. Until
-- then, and whenever the sum of their day no longer holds, they stand alone in hour_leaves.
CREATE TABLE day_quires (
    host_id integer NOT NULL,
    start   timestamptz NOT NULL, -- of the day
    section text NOT NULL,
    hours   integer NOT NULL, -- which it holds: bit n for the hour that begins at n o'clock UTC
    body    bytea NOT NULL,
    PRIMARY KEY (host_id, start, section)
);
ALTER TABLE day_quires ALTER body SET STORAGE EXTERNAL;

-- Days that were summed before, whose hours are still to be bound.
CREATE TABLE unbound_days (
    host_id integer NOT NULL,
    day     timestamptz NOT NULL,
    PRIMARY KEY (host_id, day)
);
INSERT INTO unbound_days
    SELECT DISTINCT host_id, date_trunc('day', start, 'UTC') FROM hour_leaves WHERE section = 'host'
    INTERSECT SELECT host_id, start FROM day_leaves WHERE section = 'host';

-- +goose Down
-- +goose StatementBegin
DO $$ BEGIN
    IF EXISTS (SELECT 1 FROM day_quires) THEN
        RAISE EXCEPTION 'hours of this book are bound by the day, and only the program can take them apart';
    END IF;
END $$;
-- +goose StatementEnd
DROP TABLE day_quires, unbound_days;
