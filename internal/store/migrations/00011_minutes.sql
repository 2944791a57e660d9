-- +goose Up
-- Since when an interval that is longer than a minute is counted in minutes from its begin on, with what is left of it
-- in the one after. What began before then was divided into equal parts, and stays as it was counted.
CREATE TABLE minutes_divided (since timestamptz NOT NULL);
INSERT INTO minutes_divided
    SELECT CASE WHEN EXISTS (SELECT 1 FROM tenant_minute) THEN now() ELSE to_timestamp(0) END;

-- +goose Down
DROP TABLE minutes_divided;
