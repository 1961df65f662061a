-- +goose Up
-- How the people of each login domain are to sign in. What an operator says is the version; sent is
-- the last one that the cloud has taken. Switched says that somebody has said who signs in where since
-- then, so that what the cloud has of that is replaced.
CREATE TABLE federations (
    domain text PRIMARY KEY,
    provider text NOT NULL DEFAULT '',
    provider_url text NOT NULL DEFAULT '',
    fingerprint text NOT NULL DEFAULT '',
    unsigned boolean NOT NULL DEFAULT false,
    fetched timestamptz,
    fetch_failure text NOT NULL DEFAULT '',
    fetch_failing timestamptz,
    offer text NOT NULL DEFAULT '',
    claims jsonb,
    sign_on text NOT NULL DEFAULT 'password' CHECK (sign_on IN ('password', 'some', 'provider')),
    people jsonb NOT NULL DEFAULT '[]',
    groups jsonb NOT NULL DEFAULT '[]',
    changed_by text NOT NULL DEFAULT '',
    changed_at timestamptz NOT NULL DEFAULT now(),
    version bigint NOT NULL DEFAULT 1,
    switched boolean NOT NULL DEFAULT false,
    sent bigint NOT NULL DEFAULT 0,
    sent_at timestamptz,
    failure text NOT NULL DEFAULT '',
    failing timestamptz,
    drift text NOT NULL DEFAULT ''
);

-- Sign-ins that were tried. What came is kept as the fields that were looked at, never as it came:
-- an assertion signs somebody in.
CREATE TABLE sign_in_tests (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    domain text NOT NULL,
    person text NOT NULL,
    name text NOT NULL,
    login text NOT NULL,
    by text NOT NULL,
    began timestamptz NOT NULL DEFAULT now(),
    basis text NOT NULL,
    cloud_id text NOT NULL DEFAULT '',
    url text NOT NULL DEFAULT '',
    expires timestamptz,
    answered timestamptz,
    accepted boolean NOT NULL DEFAULT false,
    cloud_accepted boolean,
    cloud_reason text NOT NULL DEFAULT '',
    assertion text NOT NULL DEFAULT '',
    fields jsonb NOT NULL DEFAULT '[]'
);
CREATE INDEX sign_in_tests_domain ON sign_in_tests (domain, id DESC);
CREATE INDEX sign_in_tests_assertion ON sign_in_tests (assertion) WHERE assertion <> '';
-- Who could still sign in where nobody of a domain can: looked for among everybody.
CREATE INDEX resources_administrators ON resources (id) WHERE kind = 'user' AND attributes @> '{"roles":[{"type":"administrative"}]}';

-- +goose Down
DROP INDEX resources_administrators;
DROP TABLE sign_in_tests;
DROP TABLE federations;
