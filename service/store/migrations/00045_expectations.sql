-- +goose Up
-- How what the active settings expect stood when it was looked at last, after which run.
CREATE TABLE expectations_held (
    one boolean PRIMARY KEY DEFAULT true CHECK (one),
    revision integer NOT NULL DEFAULT 0, run_id bigint NOT NULL DEFAULT 0,
    failing integer NOT NULL DEFAULT 0, told text NOT NULL DEFAULT '', looked timestamptz NOT NULL DEFAULT 'epoch'
);
INSERT INTO expectations_held DEFAULT VALUES;

-- +goose Down
DROP TABLE expectations_held;
