-- +goose Up
-- A quota is over all hosts, over those of a pool, or over one; and of what is used, of what is held, or of the
-- greater. A ceiling is for every moment; an allowance is an amount for a window of time (window_by: day, week, month,
-- or days from a date on), whose bounds are of a time zone.
ALTER TABLE quota_changes
    ADD scope_kind text NOT NULL DEFAULT 'fleet' CHECK (scope_kind IN ('fleet', 'pool', 'host')),
    ADD scope      text NOT NULL DEFAULT '' CHECK ((scope = '') = (scope_kind = 'fleet')),
    ADD basis      text NOT NULL DEFAULT 'used' CHECK (basis IN ('used', 'held', 'greater')),
    ADD window_by  text NOT NULL DEFAULT '',
    ADD zone       text NOT NULL DEFAULT '';

-- A tenant may be a part of another, and counts in it.
ALTER TABLE tenants ADD parent_id integer REFERENCES tenants (id) ON DELETE SET NULL CHECK (parent_id <> id);

-- +goose Down
ALTER TABLE tenants DROP parent_id;
DELETE FROM quota_changes WHERE scope_kind <> 'fleet' OR window_by <> '' OR basis <> 'used';
ALTER TABLE quota_changes DROP scope_kind, DROP scope, DROP basis, DROP window_by, DROP zone;
