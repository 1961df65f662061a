-- +goose Up
-- Until when the certificates are valid by which services, directories and the cloud are known,
-- as who meets them has seen it last.
CREATE TABLE certificates (
    type text NOT NULL, key text NOT NULL, seen_by text NOT NULL,
    expires timestamptz NOT NULL, seen timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (type, key, seen_by)
);

-- +goose Down
DROP TABLE certificates;
