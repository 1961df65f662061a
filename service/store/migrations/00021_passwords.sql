-- +goose Up
-- Whose events an agent carries out, and what it states of its key, by directory.
ALTER TABLE agents ADD trusts text NOT NULL DEFAULT '', ADD keys jsonb, ADD keys_before jsonb,
    ADD digests text[] NOT NULL DEFAULT '{}', ADD local text[] NOT NULL DEFAULT '{}';
-- Which agents alone may take an order (those for which its envelope is sealed), how often
-- one for a password was begun in the directory, and what became of it.
ALTER TABLE orders ADD among uuid[] NOT NULL DEFAULT '{}', ADD outcome jsonb, ADD begun integer NOT NULL DEFAULT 0;

-- What the cloud asked about passwords, and what became of it. A password is never here.
CREATE TABLE password_events (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    jti text NOT NULL UNIQUE,
    act text NOT NULL,
    asked_by text NOT NULL,
    directory text NOT NULL,
    entry_id text NOT NULL,
    resource_id text NOT NULL,
    person text NOT NULL DEFAULT '',
    received timestamptz NOT NULL DEFAULT now(),
    expires timestamptz NOT NULL,
    order_id bigint,
    agent text NOT NULL DEFAULT '',
    ended timestamptz,
    reason text NOT NULL DEFAULT '',
    least integer NOT NULL DEFAULT 0,
    detail text NOT NULL DEFAULT '',
    micros bigint NOT NULL DEFAULT 0
);
CREATE INDEX ON password_events (received);
CREATE INDEX ON password_events (resource_id, received);

-- How the stream of events stands; one row.
CREATE TABLE event_stream (
    one boolean PRIMARY KEY DEFAULT true CHECK (one),
    service text NOT NULL DEFAULT '',
    issuer text NOT NULL DEFAULT '',
    endpoint text NOT NULL DEFAULT '',
    opened timestamptz,
    polled timestamptz,
    failing timestamptz,
    failure text NOT NULL DEFAULT '',
    refused integer NOT NULL DEFAULT 0,
    refused_at timestamptz,
    refused_for text NOT NULL DEFAULT '',
    clock_ms bigint NOT NULL DEFAULT 0,
    verified text NOT NULL DEFAULT '',
    published jsonb NOT NULL DEFAULT '{}'
);
INSERT INTO event_stream DEFAULT VALUES;

-- When somebody's password was set (mark, as the directory tells it), and of which mark the
-- cloud has a digest, since when. A digest is never here.
CREATE TABLE password_digests (
    directory text NOT NULL,
    entry_id uuid NOT NULL,
    mark text NOT NULL DEFAULT '',
    changed timestamptz NOT NULL DEFAULT now(),
    resource_id text NOT NULL DEFAULT '',
    sent text NOT NULL DEFAULT '',
    sent_at timestamptz,
    fault text NOT NULL DEFAULT '',
    PRIMARY KEY (directory, entry_id)
);

-- How the rounds of digests stand.
CREATE TABLE digest_rounds (
    directory text PRIMARY KEY,
    since text NOT NULL DEFAULT '',
    ended timestamptz,
    failing timestamptz,
    failure text NOT NULL DEFAULT '',
    paused_by text NOT NULL DEFAULT '',
    rate double precision NOT NULL DEFAULT 0
);

-- +goose Down
DROP TABLE digest_rounds;
DROP TABLE password_digests;
DROP TABLE event_stream;
DROP TABLE password_events;
ALTER TABLE orders DROP among, DROP outcome, DROP begun;
ALTER TABLE agents DROP trusts, DROP keys, DROP keys_before, DROP digests, DROP local;
