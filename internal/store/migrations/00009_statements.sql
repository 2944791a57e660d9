-- +goose Up
-- What things cost, and for which windows statements are made: the newest is in force.
CREATE TABLE tariffs (
    version bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    value   jsonb NOT NULL,
    reason  text NOT NULL,
    made_by text NOT NULL,
    made_at timestamptz NOT NULL DEFAULT now()
);

-- Closed statements. They never change: a correction is a line of a later one.
CREATE TABLE statements (
    number      bigint PRIMARY KEY,
    tenant      text NOT NULL,
    window_name text NOT NULL,
    window_from timestamptz NOT NULL,
    window_to   timestamptz NOT NULL,
    tariff      bigint REFERENCES tariffs (version), -- null for none
    hash        text NOT NULL,
    value       jsonb NOT NULL,
    UNIQUE (window_from, tenant)
);
CREATE INDEX ON statements (tenant, window_from);

-- +goose StatementBegin
CREATE FUNCTION refuse_change() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    RAISE EXCEPTION 'a closed statement never changes: correct it by a line of the next one';
END $$;
-- +goose StatementEnd
CREATE TRIGGER statements_stay BEFORE UPDATE OR DELETE ON statements
    FOR EACH ROW EXECUTE FUNCTION refuse_change();

CREATE TABLE corrections (
    id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    corrects     bigint NOT NULL REFERENCES statements (number),
    tenant       text NOT NULL,
    in_statement bigint REFERENCES statements (number), -- null until it is a line of one
    value        jsonb NOT NULL
);

-- +goose Down
DROP TABLE corrections;
DROP TABLE statements;
DROP FUNCTION refuse_change();
DROP TABLE tariffs;
