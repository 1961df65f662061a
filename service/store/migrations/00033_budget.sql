-- +goose Up
-- How many requests the cloud takes, for all services together; see core/budget.
CREATE TABLE cloud_budget (
    one boolean PRIMARY KEY DEFAULT true CHECK (one),
    per_minute double precision NOT NULL DEFAULT 0, learned timestamptz NOT NULL DEFAULT 'epoch',
    window_seconds double precision NOT NULL DEFAULT 0, words integer NOT NULL DEFAULT 0,
    remaining double precision NOT NULL DEFAULT 0, at timestamptz NOT NULL DEFAULT 'epoch'
);
INSERT INTO cloud_budget DEFAULT VALUES;

-- +goose Down
DROP TABLE cloud_budget;
