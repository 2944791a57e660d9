-- +goose Up
-- Pages that people composed. One that is shared with the site outlives the token of its maker, and has no owner then.
CREATE TABLE folios (
    name       text PRIMARY KEY,
    owner      text REFERENCES tokens (name) ON DELETE CASCADE,
    is_shared  boolean NOT NULL,
    version    bigint NOT NULL DEFAULT 1, -- one more with each change
    changed_at timestamptz NOT NULL DEFAULT now(),
    changed_by text NOT NULL,
    value      jsonb NOT NULL,
    CHECK (is_shared OR owner IS NOT NULL)
);
CREATE INDEX ON folios (owner);

-- +goose Down
DROP TABLE folios;
