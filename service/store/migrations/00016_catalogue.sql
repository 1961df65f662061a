-- +goose Up
-- What a cloud was seen to take last, so that settings can be checked while it is away.
CREATE TABLE cloud_catalogues (
    url text PRIMARY KEY,
    offered jsonb NOT NULL,
    seen timestamptz NOT NULL DEFAULT now()
);

-- +goose Down
DROP TABLE cloud_catalogues;
