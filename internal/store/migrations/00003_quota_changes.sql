-- +goose Up
-- What limit a tenant had of a resource, from when on: of changes that apply from the same moment, the one made last
-- holds. NULL for both marks ends a limit. Units are those of the resource's mean.
CREATE TABLE quota_changes (
    id         bigserial PRIMARY KEY,
    tenant_id  integer NOT NULL REFERENCES tenants (id) ON DELETE CASCADE,
    resource   text NOT NULL,
    applies_at timestamptz NOT NULL,
    made_at    timestamptz NOT NULL DEFAULT now(),
    made_by    text NOT NULL,
    reason     text NOT NULL DEFAULT '',
    ceiling    double precision CHECK (ceiling >= 0),
    soft       double precision CHECK (soft >= 0 AND (ceiling IS NULL OR soft <= ceiling))
);
CREATE INDEX ON quota_changes (tenant_id, resource);
INSERT INTO quota_changes (tenant_id, resource, applies_at, made_at, made_by, ceiling)
    SELECT tenant_id, resource, date_trunc('minute', updated_at), updated_at, 'not written down', ceiling FROM quotas;
DROP TABLE quotas;

-- +goose Down
CREATE TABLE quotas (
    tenant_id  integer NOT NULL REFERENCES tenants (id) ON DELETE CASCADE,
    resource   text NOT NULL,
    ceiling    double precision NOT NULL CHECK (ceiling >= 0), -- cores, bytes, or bytes per second
    updated_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (tenant_id, resource)
);
INSERT INTO quotas
    SELECT tenant_id, resource, ceiling, applies_at FROM (
        SELECT DISTINCT ON (tenant_id, resource) * FROM quota_changes WHERE applies_at <= now()
        ORDER BY tenant_id, resource, applies_at DESC, made_at DESC) newest WHERE ceiling IS NOT NULL;
DROP TABLE quota_changes;
