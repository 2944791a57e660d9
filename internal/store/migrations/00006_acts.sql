-- +goose Up
-- What was asked to be done on hosts, whether or not it was done: the trail stays when a host goes.
CREATE TABLE acts (
    id           text PRIMARY KEY,
    host_id      integer REFERENCES hosts (id) ON DELETE SET NULL,
    host         text NOT NULL,
    who          text NOT NULL,
    origin       text NOT NULL DEFAULT '', -- the address that it was asked from
    reason       text NOT NULL DEFAULT '',
    verb         text NOT NULL,
    request      jsonb NOT NULL,
    whose        jsonb NOT NULL, -- tenants by key, of what might be touched when it was asked
    scope        jsonb NOT NULL, -- in which the asker may act
    undoes       text NOT NULL DEFAULT '', -- the act that it undoes
    rule         text NOT NULL DEFAULT '', -- the standing rule that asked for it
    state        text NOT NULL,
    detail       text NOT NULL DEFAULT '', -- why it is in that state, where the outcome does not say
    asked_at     timestamptz NOT NULL,
    expires_at   timestamptz NOT NULL, -- when what is not done by then is not done any more
    lives_millis bigint NOT NULL,
    given_at     timestamptz, -- when its host was given the order last
    previewed_at timestamptz,
    confirmed_at timestamptz,
    confirmed_by text NOT NULL DEFAULT '',
    over_at      timestamptz,
    preview      jsonb,
    outcome      jsonb
);
CREATE INDEX ON acts (asked_at);
CREATE INDEX ON acts (host_id) WHERE state IN ('asked', 'previewed', 'confirmed', 'sent', 'unknown');
CREATE INDEX ON acts (undoes) WHERE undoes <> '';

-- Rules that have an act done by themselves, once they are switched on.
CREATE TABLE standing_rules (
    id         serial PRIMARY KEY,
    name       text NOT NULL UNIQUE,
    rule       jsonb NOT NULL,
    for_millis bigint NOT NULL,
    is_on      boolean NOT NULL DEFAULT false,
    on_at      timestamptz, -- when it was switched on: what was before is not held against anybody
    checked_at timestamptz, -- up to when it was held against the book since it was switched on
    stopped    text NOT NULL DEFAULT '', -- why it stopped itself
    made_at    timestamptz NOT NULL,
    made_by    text NOT NULL
);

-- An operator may act, within a scope of tenants and pools.
ALTER TABLE tokens DROP CONSTRAINT tokens_role_check;
ALTER TABLE tokens
    ADD CONSTRAINT tokens_role_check CHECK (role IN ('administrator', 'operator', 'reader', 'collector')),
    ADD scope jsonb NOT NULL DEFAULT '{}';

-- The seed of the key that orders to hosts are signed with (Ed25519); all instances of the service sign alike.
ALTER TABLE vinescale_book ADD order_key bytea;

-- +goose Down
ALTER TABLE vinescale_book DROP order_key;
DELETE FROM tokens WHERE role = 'operator';
ALTER TABLE tokens DROP CONSTRAINT tokens_role_check, DROP scope;
ALTER TABLE tokens ADD CONSTRAINT tokens_role_check CHECK (role IN ('administrator', 'reader', 'collector'));
DROP TABLE standing_rules;
DROP TABLE acts;
