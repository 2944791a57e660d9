-- +goose Up
-- A declaration of CPUs is in force from from_at until until_at, and stays in the book when it is over. Its holder is a
-- tenant, or workloads by name or by a rule: one of the three.
ALTER TABLE pins DROP CONSTRAINT pins_host_id_tenant_id_key;
ALTER TABLE pins ALTER tenant_id DROP NOT NULL;
ALTER TABLE pins RENAME created_at TO made_at;
ALTER TABLE pins
    ADD workload   text NOT NULL DEFAULT '',
    ADD expression text NOT NULL DEFAULT '',
    ADD exclusive  boolean NOT NULL DEFAULT true,
    ADD reason     text NOT NULL DEFAULT '',
    ADD made_by    text NOT NULL DEFAULT 'not written down',
    ADD from_at    timestamptz,
    ADD until_at   timestamptz,
    ADD ended_by   text NOT NULL DEFAULT '',
    ADD end_reason text NOT NULL DEFAULT '',
    ADD CHECK ((tenant_id IS NOT NULL)::int + (workload <> '')::int + (expression <> '')::int = 1),
    ADD CHECK (until_at >= from_at);
UPDATE pins SET from_at = date_trunc('minute', made_at);
ALTER TABLE pins ALTER from_at SET NOT NULL;
CREATE INDEX ON pins (host_id);

-- +goose Down
DELETE FROM pins p WHERE tenant_id IS NULL OR until_at <= now() OR from_at > now() OR EXISTS (
    SELECT 1 FROM pins q WHERE q.host_id = p.host_id AND q.tenant_id = p.tenant_id AND q.id > p.id
        AND (q.until_at IS NULL OR q.until_at > now()) AND q.from_at <= now());
ALTER TABLE pins DROP workload, DROP expression, DROP exclusive, DROP reason, DROP made_by, DROP from_at, DROP until_at,
    DROP ended_by, DROP end_reason;
ALTER TABLE pins RENAME made_at TO created_at;
ALTER TABLE pins ALTER tenant_id SET NOT NULL;
ALTER TABLE pins ADD UNIQUE (host_id, tenant_id);
