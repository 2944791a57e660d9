-- +goose Up
-- Programs and parts say to whom their workload was accounted at the time, as usage does.
ALTER TABLE program_minute ADD tenant_id integer NOT NULL DEFAULT 0;
UPDATE program_minute p SET tenant_id = u.tenant_id FROM usage_minute u
    WHERE u.host_id = p.host_id AND u.workload_id = p.workload_id AND u.start = p.start AND u.tenant_id <> 0;
ALTER TABLE part_minute ADD tenant_id integer NOT NULL DEFAULT 0;
UPDATE part_minute p SET tenant_id = u.tenant_id FROM usage_minute u
    WHERE u.host_id = p.host_id AND u.workload_id = p.workload_id AND u.start = p.start AND u.tenant_id <> 0;

-- A collector need not tell of every resource: NULL is what it does not tell. Columns of resources that are not in this
-- file are made when the store is opened, by the register of resources.
ALTER TABLE usage_minute
    ALTER cpu DROP NOT NULL, ALTER cpu_peak DROP NOT NULL, ALTER cpu_source DROP NOT NULL,
    ALTER memory DROP NOT NULL, ALTER memory_peak DROP NOT NULL, ALTER memory_source DROP NOT NULL,
    ALTER disk DROP NOT NULL, ALTER disk_peak DROP NOT NULL, ALTER disk_source DROP NOT NULL,
    ALTER network DROP NOT NULL, ALTER network_peak DROP NOT NULL, ALTER network_source DROP NOT NULL;
ALTER TABLE program_minute
    ALTER cpu DROP NOT NULL, ALTER memory DROP NOT NULL, ALTER disk DROP NOT NULL, ALTER network DROP NOT NULL;

-- How many workloads a tenant had, and how many of them lack a figure, is counted from usage_minute: of several
-- intervals in one minute, or hosts, it could not be added up here.
ALTER TABLE tenant_minute
    ALTER cpu DROP NOT NULL, ALTER memory DROP NOT NULL, ALTER disk DROP NOT NULL, ALTER network DROP NOT NULL,
    DROP workloads, DROP cpu_missing, DROP memory_missing, DROP disk_missing, DROP network_missing;

-- +goose Down
ALTER TABLE tenant_minute ADD workloads integer NOT NULL DEFAULT 0,
    ADD cpu_missing integer NOT NULL DEFAULT 0, ADD memory_missing integer NOT NULL DEFAULT 0,
    ADD disk_missing integer NOT NULL DEFAULT 0, ADD network_missing integer NOT NULL DEFAULT 0;
ALTER TABLE part_minute DROP tenant_id;
ALTER TABLE program_minute DROP tenant_id;
