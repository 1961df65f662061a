-- +goose Up
-- What people are told. key tells one notice from all others, so that none is made twice,
-- whichever service makes it.
CREATE TABLE notices (
    id bigint PRIMARY KEY GENERATED ALWAYS AS IDENTITY,
    key text NOT NULL UNIQUE,
    kind text NOT NULL,
    channel text NOT NULL,
    recipients text[] NOT NULL DEFAULT '{}',
    subject text NOT NULL, body text NOT NULL, html text NOT NULL DEFAULT '',
    created timestamptz NOT NULL DEFAULT now(),
    due timestamptz NOT NULL DEFAULT now(),
    sent timestamptz, attempts integer NOT NULL DEFAULT 0, failure text NOT NULL DEFAULT ''
);
CREATE INDEX notices_due ON notices (due) WHERE sent IS NULL;
-- Failures that people were told of, and whether they were told that these are over.
CREATE TABLE noticed (
    problem_id bigint PRIMARY KEY, told timestamptz NOT NULL DEFAULT now(), over timestamptz
);

-- +goose Down
DROP TABLE noticed;
DROP TABLE notices;
