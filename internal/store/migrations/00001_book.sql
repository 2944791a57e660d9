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
    outer_key  text NOT NULL DEFAULT '', -- of the workload around it
    recogniser text NOT NULL DEFAULT '',
    facts      jsonb NOT NULL DEFAULT '{}',
    due_at     timestamptz, -- when its first usage is due; NULL once there is some
    alive      boolean NOT NULL DEFAULT false, -- it is in its host's newest interval
    last_at    timestamptz, -- while not alive: end of the last interval it was in
    ended_at   timestamptz, -- when its collector saw that it was gone
    UNIQUE (host_id, key)
);
CREATE INDEX ON workloads (host_id) WHERE alive;
CREATE INDEX ON workloads (host_id, first_at);

-- To whom a workload is accounted from a time on, until its next row: history is not rewritten by a change of rules.
CREATE TABLE assignments (
    workload_id bigint NOT NULL REFERENCES workloads (id) ON DELETE CASCADE,
    from_at     timestamptz NOT NULL,
    tenant_id   integer NOT NULL,
    rule_id     integer NOT NULL,
    rule        text NOT NULL DEFAULT '', -- its expression then
    PRIMARY KEY (workload_id, from_at)
);

-- Which intervals have been counted: each moment of a host once. A resend finds its row here and adds nothing; an
-- interval that overlaps one that was counted is refused. Boot is a digest of the kernel's boot id.
CREATE TABLE intake (
    host_id  integer NOT NULL,
    boot     integer NOT NULL,
    start    timestamptz NOT NULL,
    until    timestamptz NOT NULL,
    sequence bigint NOT NULL,
    PRIMARY KEY (host_id, start)
);

-- The processes of each host at its newest interval's end, as its collector sent them (wire.Processes, packed); their
-- rows name workloads by their place in the column workloads.
CREATE TABLE running (
    host_id   integer PRIMARY KEY REFERENCES hosts (id) ON DELETE CASCADE,
    at        timestamptz NOT NULL,
    workloads bigint[] NOT NULL,
    processes bytea NOT NULL
);
ALTER TABLE running ALTER processes SET STORAGE EXTERNAL;

-- What each host is made of, as its newest interval tells.
CREATE TABLE inventories (
    host_id integer PRIMARY KEY REFERENCES hosts (id) ON DELETE CASCADE,
    at      timestamptz NOT NULL,
    parts   jsonb NOT NULL
);

-- What was counted: leaves, whose sections are packed columns (internal/pack). They are compressed already.
--
-- An interval that was taken in is loose, alone or bound with others of its hour, until it is folded into the quire of
-- its hour, which holds the intervals of that hour one by one. The sum of a quire stands in hour_leaves, and the sum of a day's hours in day_leaves. A day has
-- a row only while the sum holds for all of its hours. Whoever asks adds what is loose to what is summed.
CREATE TABLE loose_leaves (
    host_id integer NOT NULL,
    start   timestamptz NOT NULL, -- of the first of its intervals, which are of one hour
    section text NOT NULL,
    body    bytea NOT NULL,
    single  boolean NOT NULL, -- it is one interval, as it was taken in
    PRIMARY KEY (host_id, start, section)
);
CREATE TABLE quires (
    host_id integer NOT NULL,
    start   timestamptz NOT NULL, -- of the hour
    section text NOT NULL,
    body    bytea NOT NULL,
    PRIMARY KEY (host_id, start, section)
) PARTITION BY RANGE (start);
CREATE TABLE hour_leaves (
    host_id integer NOT NULL,
    start   timestamptz NOT NULL,
    section text NOT NULL,
    body    bytea NOT NULL,
    PRIMARY KEY (host_id, start, section)
);
CREATE TABLE day_leaves (
    host_id integer NOT NULL,
    start   timestamptz NOT NULL,
    section text NOT NULL,
    body    bytea NOT NULL,
    PRIMARY KEY (host_id, start, section)
);
ALTER TABLE loose_leaves ALTER body SET STORAGE EXTERNAL;
ALTER TABLE quires ALTER body SET STORAGE EXTERNAL;
ALTER TABLE hour_leaves ALTER body SET STORAGE EXTERNAL;
ALTER TABLE day_leaves ALTER body SET STORAGE EXTERNAL;

-- Sums by tenant and minute, kept with every interval that is taken in: a tenant's highest minute over several hosts is
-- in no host's leaves. A column for each resource is made when the book is opened; NULL is what no collector told.
CREATE TABLE tenant_minute (
    minute    timestamptz NOT NULL,
    host_id   integer NOT NULL,
    tenant_id integer NOT NULL,
    PRIMARY KEY (minute, host_id, tenant_id)
) PARTITION BY RANGE (minute);

-- The highest minute of each tenant in an hour, on each host and on all together (host 0). An hour is in peak_hours
-- while its rows hold for all that was counted.
CREATE TABLE peak_hours (
    hour timestamptz PRIMARY KEY
);
CREATE TABLE tenant_peak (
    hour      timestamptz NOT NULL,
    host_id   integer NOT NULL,
    tenant_id integer NOT NULL,
    PRIMARY KEY (host_id, hour, tenant_id)
);

-- +goose Down
DROP TABLE tenant_peak, peak_hours, tenant_minute, day_leaves, hour_leaves, quires, loose_leaves, inventories, running, intake,
    assignments, workloads, audit, pools, pins, quotas, rules, tenants, tokens, hosts, vinescale_book;
