-- +goose Up
-- What a host was made of when it told last, as far as it is an event when that changes.
ALTER TABLE inventories ADD COLUMN made jsonb;

-- What was seen to happen on hosts, and to workloads, that nothing tells of later.
CREATE TABLE happenings (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    host_id     integer NOT NULL REFERENCES hosts (id) ON DELETE CASCADE,
    start       timestamptz NOT NULL,
    workload_id bigint REFERENCES workloads (id) ON DELETE CASCADE, -- null for the host
    kind        text NOT NULL,
    name        text NOT NULL,
    what        text NOT NULL,
    said        text NOT NULL,
    urgent      boolean NOT NULL
);
CREATE INDEX ON happenings (host_id, start);
CREATE INDEX ON happenings (workload_id);

-- +goose Down
DROP TABLE happenings;
ALTER TABLE inventories DROP COLUMN made;
