-- +goose Up
-- What was counted beside the ledger: a row a host and interval. The figures of all its workloads, devices and interfaces
-- are one compressed message (wire.Figures), whose rows name workloads by their place in the column workloads. As rows of
-- their own they would take ten times the room, and disk is what a large fleet runs out of.
CREATE TABLE figure_minute (
    host_id    integer NOT NULL,
    start      timestamptz NOT NULL,
    elapsed_ms bigint NOT NULL,
    workloads  bigint[] NOT NULL,
    figures    bytea NOT NULL
) PARTITION BY RANGE (start);
CREATE INDEX ON figure_minute (host_id, start);

-- What each host is made of, as its newest interval tells.
CREATE TABLE inventories (
    host_id integer PRIMARY KEY REFERENCES hosts (id) ON DELETE CASCADE,
    at      timestamptz NOT NULL,
    parts   jsonb NOT NULL
);

-- +goose Down
DROP TABLE inventories, figure_minute;
