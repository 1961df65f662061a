-- +goose Up
-- Kambrel's own identity provider: the domains that it is for, the cloud's metadata as it was seen
-- last, its keys (sealed by a key of the service's host), and who has signed in there.
ALTER TABLE federations ADD COLUMN own boolean NOT NULL DEFAULT false, ADD COLUMN cloud text NOT NULL DEFAULT '';
CREATE TABLE own_keys (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    state text NOT NULL CHECK (state IN ('current', 'next', 'former')),
    base text NOT NULL,
    certificate bytea NOT NULL,
    key bytea NOT NULL,
    made timestamptz NOT NULL DEFAULT now(),
    until timestamptz NOT NULL,
    changed timestamptz NOT NULL DEFAULT now()
);
CREATE UNIQUE INDEX own_keys_one ON own_keys (state) WHERE state <> 'former';
CREATE TABLE own_sessions (
    id bytea PRIMARY KEY,
    index text NOT NULL,
    resource text NOT NULL,
    directory text NOT NULL,
    entry_id uuid NOT NULL,
    by text NOT NULL,
    began timestamptz NOT NULL DEFAULT now(),
    confirmed timestamptz NOT NULL DEFAULT now(),
    expires timestamptz NOT NULL
);
CREATE INDEX own_sessions_resource ON own_sessions (resource);

-- +goose Down
DROP TABLE own_sessions;
DROP TABLE own_keys;
ALTER TABLE federations DROP COLUMN own, DROP COLUMN cloud;
