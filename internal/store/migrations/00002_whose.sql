-- +goose Up
ALTER TABLE workloads
    ADD outer_key  text NOT NULL DEFAULT '', -- of the workload around it
    ADD recogniser text NOT NULL DEFAULT '',
    ADD facts      jsonb NOT NULL DEFAULT '{}',
    ADD due_at     timestamptz, -- when its first usage is due; NULL once there is some
    ADD alive      boolean NOT NULL DEFAULT false, -- it is in its host's newest interval
    ADD last_at    timestamptz, -- while not alive: end of the last interval it was in
    ADD ended_at   timestamptz; -- when its collector saw that it was gone

CREATE INDEX ON workloads (host_id) WHERE alive;

-- To whom a workload is accounted from a time on, until its next row: history is not rewritten by a change of rules.
CREATE TABLE assignments (
    workload_id bigint NOT NULL REFERENCES workloads (id) ON DELETE CASCADE,
    from_at     timestamptz NOT NULL,
    tenant_id   integer NOT NULL,
    rule_id     integer NOT NULL,
    rule        text NOT NULL DEFAULT '', -- its expression then
    PRIMARY KEY (workload_id, from_at)
);
INSERT INTO assignments (workload_id, from_at, tenant_id, rule_id, rule)
    SELECT w.id, w.first_at, w.tenant_id, w.rule_id, coalesce(r.expression, '') FROM workloads w LEFT JOIN rules r ON r.id = w.rule_id;

ALTER TABLE usage_minute
    ADD threads integer, ADD processes integer, -- at the end
    ADD runnable_ms bigint, ADD runnable_peak integer; -- threads running or waiting for a CPU
ALTER TABLE program_minute ADD family_id integer NOT NULL DEFAULT 0; -- program at the head of the family

-- CPU time of the parts of workloads whose threads or steps are told apart.
CREATE TABLE part_minute (
    host_id     integer NOT NULL,
    workload_id bigint NOT NULL,
    start       timestamptz NOT NULL,
    names       text[] NOT NULL,
    micros      bigint[] NOT NULL
) PARTITION BY RANGE (start);
CREATE INDEX ON part_minute (host_id, start);

-- The processes of each host at its newest interval's end: one row a host, a column each, over the last reading.
CREATE TABLE running (
    host_id   integer PRIMARY KEY REFERENCES hosts (id) ON DELETE CASCADE,
    at        timestamptz NOT NULL,
    over_ms   bigint NOT NULL,
    workloads bigint[] NOT NULL, pids integer[] NOT NULL, parents integer[] NOT NULL, programs text[] NOT NULL, uids bigint[] NOT NULL,
    threads   integer[] NOT NULL, runnable integer[] NOT NULL, last_cpus integer[] NOT NULL,
    cpu       bigint[] NOT NULL, memory bigint[] NOT NULL, disk bigint[] NOT NULL
);

-- Hosts that rules and questions name together.
CREATE TABLE pools (
    host_id integer NOT NULL REFERENCES hosts (id) ON DELETE CASCADE,
    pool    text NOT NULL,
    PRIMARY KEY (host_id, pool)
);

-- Who changed what.
CREATE TABLE audit (
    id      bigserial PRIMARY KEY,
    at      timestamptz NOT NULL DEFAULT now(),
    who     text NOT NULL,
    act     text NOT NULL,
    subject text NOT NULL,
    detail  jsonb NOT NULL DEFAULT '{}'
);
CREATE INDEX ON audit (at);

-- +goose Down
DROP TABLE audit, pools, running, part_minute, assignments;
ALTER TABLE program_minute DROP family_id;
ALTER TABLE usage_minute DROP threads, DROP processes, DROP runnable_ms, DROP runnable_peak;
ALTER TABLE workloads DROP outer_key, DROP recogniser, DROP facts, DROP due_at, DROP alive, DROP last_at, DROP ended_at;
