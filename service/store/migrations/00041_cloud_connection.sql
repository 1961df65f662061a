-- +goose Up
-- Of which cloud the records are, by the URL at which it was met last, and how it is reached where
-- an operator has said so: the token is sealed by a key of the service's host.
CREATE TABLE cloud_connection (
    one boolean PRIMARY KEY DEFAULT true CHECK (one),
    records_of text NOT NULL DEFAULT '',
    url text NOT NULL DEFAULT '',
    token bytea,
    set_by text NOT NULL DEFAULT '',
    set_at timestamptz
);
-- The cloud that was seen last is the one of the records.
INSERT INTO cloud_connection (records_of) SELECT coalesce((SELECT url FROM cloud_catalogues ORDER BY seen DESC LIMIT 1), '');

-- +goose Down
DROP TABLE cloud_connection;
