-- +goose Up
-- How a person wants figures shown, by the name of their token: it goes with that.
CREATE TABLE choices (
    name  text PRIMARY KEY REFERENCES tokens (name) ON DELETE CASCADE,
    value jsonb NOT NULL
);

-- +goose Down
DROP TABLE choices;
