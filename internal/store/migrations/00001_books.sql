-- +goose Up
CREATE TABLE vinescale_book (
    one        boolean PRIMARY KEY DEFAULT true CHECK (one),
    created_at timestamptz NOT NULL DEFAULT now(),
    rules_version bigint NOT NULL DEFAULT 1 -- rises with every change of rules or tenants
);
INSERT INTO vinescale_book DEFAULT VALUES;

CREATE TABLE hosts (
    id           serial PRIMARY KEY,
    name         text NOT NULL UNIQUE,
    cpus         integer NOT NULL DEFAULT 0,
    memory_bytes bigint NOT NULL DEFAULT 0,
    boot         text NOT NULL DEFAULT '',
    cgroup_mode  text NOT NULL DEFAULT '',
    enrolled_at  timestamptz NOT NULL DEFAULT now(),
    last_at      timestamptz -- end of the newest interval
);

CREATE TABLE tokens (
    id         serial PRIMARY KEY,
    name       text NOT NULL UNIQUE,
    hash       bytea NOT NULL UNIQUE, -- SHA-256 of the token
    role       text NOT NULL CHECK (role IN ('administrator', 'reader', 'collector')),
    host_id    integer REFERENCES hosts (id) ON DELETE CASCADE,
    created_at timestamptz NOT NULL DEFAULT now(),
    CHECK ((role = 'collector') = (host_id IS NOT NULL))
);

CREATE TABLE tenants (
    id         serial PRIMARY KEY,
    name       text NOT NULL UNIQUE,
    colour     smallint NOT NULL, -- place in the console's row of tenant colours, kept for good
    created_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE rules (
    id         serial PRIMARY KEY,
    position   integer NOT NULL, -- ascending: the first that matches wins
    tenant_id  integer NOT NULL REFERENCES tenants (id) ON DELETE CASCADE,
    expression text NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (position) DEFERRABLE INITIALLY DEFERRED
);

CREATE TABLE quotas (
    tenant_id  integer NOT NULL REFERENCES tenants (id) ON DELETE CASCADE,
    resource   text NOT NULL,
    ceiling    double precision NOT NULL CHECK (ceiling >= 0), -- cores, bytes, or bytes per second
    updated_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (tenant_id, resource)
);

CREATE TABLE pins (
    id         serial PRIMARY KEY,
    host_id    integer NOT NULL REFERENCES hosts (id) ON DELETE CASCADE,
    tenant_id  integer NOT NULL REFERENCES tenants (id) ON DELETE CASCADE,
    cpus       text NOT NULL, -- the kernel's list format
    created_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (host_id, tenant_id)
);

CREATE TABLE workloads (
    id         bigserial PRIMARY KEY,
    host_id    integer NOT NULL REFERENCES hosts (id) ON DELETE CASCADE,
    key        text NOT NULL,
    kind       text NOT NULL,
    name       text NOT NULL,
    owner      text NOT NULL,
    uid        bigint NOT NULL,
    path       text NOT NULL,
    allowed    text NOT NULL,
    labels     jsonb NOT NULL DEFAULT '{}',
    tenant_id  integer NOT NULL DEFAULT 0, -- 0 is unassigned
    rule_id    integer NOT NULL DEFAULT 0,
    first_at   timestamptz NOT NULL,
    UNIQUE (host_id, key)
);

CREATE TABLE programs (
    id   serial PRIMARY KEY,
    name text NOT NULL UNIQUE
);

-- Which intervals have been counted. A resend finds its row here and adds nothing.
CREATE TABLE intake (
    host_id  integer NOT NULL,
    boot     text NOT NULL,
    sequence bigint NOT NULL,
    start    timestamptz NOT NULL,
    PRIMARY KEY (host_id, boot, sequence)
);

-- The host-wide lines of each resource's ledger, in account units: CPU microseconds, byte-milliseconds, bytes, bytes.
-- NULL is not available; notes says why by resource and line.
CREATE TABLE host_minute (
    host_id    integer NOT NULL,
    start      timestamptz NOT NULL,
    elapsed_ms bigint NOT NULL,
    cpus       integer NOT NULL,
    cpu_capacity bigint, cpu_used bigint, cpu_idle bigint, cpu_kernel bigint, cpu_steal bigint,
    memory_capacity bigint, memory_used bigint, memory_idle bigint, memory_kernel bigint, memory_steal bigint,
    disk_capacity bigint, disk_used bigint, disk_idle bigint, disk_kernel bigint, disk_steal bigint,
    network_capacity bigint, network_used bigint, network_idle bigint, network_kernel bigint, network_steal bigint,
    notes      jsonb NOT NULL,
    detail     jsonb NOT NULL
) PARTITION BY RANGE (start);
CREATE INDEX ON host_minute (start, host_id);

-- What each workload used in each interval. No primary key: intake keeps it single, and the index would cost a quarter.
CREATE TABLE usage_minute (
    host_id     integer NOT NULL,
    workload_id bigint NOT NULL,
    tenant_id   integer NOT NULL,
    start       timestamptz NOT NULL,
    elapsed_ms  bigint NOT NULL,
    cpu bigint NOT NULL, cpu_peak bigint NOT NULL, cpu_source smallint NOT NULL,
    memory bigint NOT NULL, memory_peak bigint NOT NULL, memory_source smallint NOT NULL,
    disk bigint NOT NULL, disk_peak bigint NOT NULL, disk_source smallint NOT NULL,
    network bigint NOT NULL, network_peak bigint NOT NULL, network_source smallint NOT NULL
) PARTITION BY RANGE (start);
CREATE INDEX ON usage_minute (host_id, start);
CREATE INDEX ON usage_minute USING brin (start);

-- How each usage divides over programs; program 0 is what no living process explains.
CREATE TABLE program_minute (
    host_id     integer NOT NULL,
    workload_id bigint NOT NULL,
    program_id  integer NOT NULL,
    start       timestamptz NOT NULL,
    processes   integer NOT NULL,
    cpu bigint NOT NULL, memory bigint NOT NULL, disk bigint NOT NULL, network bigint NOT NULL
) PARTITION BY RANGE (start);
CREATE INDEX ON program_minute USING brin (start);

-- On which CPUs each workload ran.
CREATE TABLE cpu_minute (
    host_id     integer NOT NULL,
    workload_id bigint NOT NULL,
    tenant_id   integer NOT NULL,
    start       timestamptz NOT NULL,
    source      smallint NOT NULL,
    cpus        integer[] NOT NULL,
    micros      bigint[] NOT NULL
) PARTITION BY RANGE (start);
CREATE INDEX ON cpu_minute (host_id, start);

-- Sums by tenant, kept with every insert, by the minute an interval began in.
CREATE TABLE tenant_minute (
    minute    timestamptz NOT NULL,
    host_id   integer NOT NULL,
    tenant_id integer NOT NULL,
    workloads integer NOT NULL,
    cpu bigint NOT NULL, memory bigint NOT NULL, disk bigint NOT NULL, network bigint NOT NULL,
    -- workloads in these sums whose figure is unavailable: the sum is then less than the truth by an unknown amount
    cpu_missing integer NOT NULL, memory_missing integer NOT NULL, disk_missing integer NOT NULL, network_missing integer NOT NULL,
    PRIMARY KEY (minute, host_id, tenant_id)
) PARTITION BY RANGE (minute);

-- +goose Down
DROP TABLE tenant_minute, cpu_minute, program_minute, usage_minute, host_minute, intake, programs, workloads, pins, quotas, rules,
    tenants, tokens, hosts, vinescale_book;
