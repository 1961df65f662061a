-- +goose Up
CREATE TABLE settings_revisions (
    revision integer PRIMARY KEY GENERATED ALWAYS AS IDENTITY,
    document jsonb NOT NULL,
    by text NOT NULL,
    note text NOT NULL DEFAULT '',
    activated timestamptz NOT NULL DEFAULT now()
);

-- Source mirror. path is the name from the root down, so that what lies below
-- a container is a range.
CREATE TABLE entries (
    directory text NOT NULL,
    id uuid NOT NULL,
    kind text NOT NULL,
    dn text NOT NULL,
    path text COLLATE "C" NOT NULL,
    attributes jsonb NOT NULL,
    digest bytea NOT NULL,
    search text NOT NULL,
    gone timestamptz,
    PRIMARY KEY (directory, id)
);
CREATE INDEX entries_path ON entries (directory, path);
CREATE INDEX entries_id ON entries (id);

-- Where the last read of a directory stopped, in the transaction of what it read.
CREATE TABLE directory_states (
    directory text PRIMARY KEY,
    cookie bytea,
    base text NOT NULL,
    attributes text[] NOT NULL,
    read timestamptz NOT NULL
);

-- What the next plan must look at. state 0: now; 1: later in this plan;
-- 2: at the next run. lookup: ask the cloud before creating.
CREATE TABLE dirty (
    directory text NOT NULL,
    entry_id uuid NOT NULL,
    state smallint NOT NULL DEFAULT 0,
    lookup boolean NOT NULL DEFAULT false,
    PRIMARY KEY (directory, entry_id)
);
CREATE INDEX dirty_state ON dirty (state, directory, entry_id);

-- Cloud mirror. keys are the values by which resources are found.
CREATE TABLE resources (
    id text PRIMARY KEY,
    attributes jsonb NOT NULL,
    digest bytea NOT NULL,
    keys text[] NOT NULL,
    active boolean NOT NULL,
    search text NOT NULL
);
-- Without fastupdate, since a list of pending entries is searched whole.
CREATE INDEX resources_keys ON resources USING gin (keys) WITH (fastupdate = off);

CREATE TABLE cloud_state (
    one boolean PRIMARY KEY DEFAULT true CHECK (one),
    watermark text NOT NULL,
    read timestamptz NOT NULL
);

CREATE TABLE links (
    id bigint PRIMARY KEY GENERATED ALWAYS AS IDENTITY,
    link_key text NOT NULL UNIQUE,
    resource_id text NOT NULL UNIQUE,
    directory text NOT NULL,
    entry_id uuid NOT NULL,
    how text NOT NULL,
    run_id bigint NOT NULL,
    since timestamptz NOT NULL DEFAULT now(),
    left_at timestamptz,
    UNIQUE (directory, entry_id)
);

-- Unique values that entries in scope take in the cloud.
CREATE TABLE claims (
    key text PRIMARY KEY,
    directory text NOT NULL,
    entry_id uuid NOT NULL
);
CREATE INDEX claims_entry ON claims (directory, entry_id);

CREATE TABLE runs (
    id bigint PRIMARY KEY GENERATED ALWAYS AS IDENTITY,
    kind text NOT NULL,
    rehearsal boolean NOT NULL DEFAULT false,
    releases bigint NOT NULL DEFAULT 0,
    state text NOT NULL,
    stage text NOT NULL DEFAULT '',
    revision integer NOT NULL,
    by text NOT NULL,
    created timestamptz NOT NULL DEFAULT now(),
    started timestamptz,
    ended timestamptz,
    stages jsonb NOT NULL DEFAULT '[]',
    counts jsonb NOT NULL DEFAULT '{}',
    failure_code text NOT NULL DEFAULT '',
    failure_detail text NOT NULL DEFAULT ''
);
CREATE INDEX runs_open ON runs (id) WHERE state IN ('waiting', 'running');

CREATE TABLE changes (
    id bigint PRIMARY KEY GENERATED ALWAYS AS IDENTITY,
    run_id bigint NOT NULL REFERENCES runs ON DELETE CASCADE,
    operation text NOT NULL,
    rank smallint NOT NULL,
    state text NOT NULL,
    directory text NOT NULL,
    entry_id uuid NOT NULL,
    dn text NOT NULL,
    resource_id text NOT NULL,
    name text NOT NULL,
    diffs jsonb NOT NULL,
    lookup boolean NOT NULL DEFAULT false,
    code text NOT NULL DEFAULT '',
    answer text NOT NULL DEFAULT '',
    attempts integer NOT NULL DEFAULT 0,
    sent timestamptz,
    answered timestamptz
) WITH (fillfactor = 70);
CREATE INDEX changes_run ON changes (run_id, rank, id);
CREATE INDEX changes_open ON changes (run_id, rank, id) WHERE state IN ('planned', 'sent');
CREATE INDEX changes_entry ON changes (directory, entry_id, id);

CREATE TABLE problems (
    directory text NOT NULL,
    entry_id uuid NOT NULL,
    code text NOT NULL,
    detail text NOT NULL,
    since timestamptz NOT NULL DEFAULT now(),
    last_run bigint NOT NULL,
    times integer NOT NULL DEFAULT 1,
    PRIMARY KEY (directory, entry_id)
);

CREATE TABLE agents (
    id uuid PRIMARY KEY,
    name text NOT NULL UNIQUE,
    host text NOT NULL,
    version text NOT NULL DEFAULT '',
    directories text[] NOT NULL DEFAULT '{}',
    public_key text NOT NULL,
    enrolled timestamptz NOT NULL DEFAULT now(),
    last_contact timestamptz
);

CREATE TABLE enrolments (
    code_hash bytea PRIMARY KEY,
    by text NOT NULL,
    expires timestamptz NOT NULL,
    used timestamptz
);

CREATE TABLE orders (
    id bigint PRIMARY KEY GENERATED ALWAYS AS IDENTITY,
    run_id bigint NOT NULL REFERENCES runs ON DELETE CASCADE,
    directory text NOT NULL,
    request jsonb NOT NULL,
    state text NOT NULL DEFAULT 'waiting',
    agent_id uuid,
    lease_until timestamptz,
    created timestamptz NOT NULL DEFAULT now(),
    failure_code text NOT NULL DEFAULT '',
    failure_detail text NOT NULL DEFAULT '',
    counts jsonb NOT NULL DEFAULT '{}'
);
CREATE INDEX orders_open ON orders (directory, id) WHERE state IN ('waiting', 'leased');

CREATE TABLE operators (
    name text PRIMARY KEY,
    password_hash text NOT NULL,
    role text NOT NULL,
    created timestamptz NOT NULL DEFAULT now()
);

-- Sessions of operators and tokens for programs; only a hash of the secret is kept.
CREATE TABLE tokens (
    id uuid PRIMARY KEY,
    hash bytea NOT NULL UNIQUE,
    kind text NOT NULL,
    name text NOT NULL,
    role text NOT NULL,
    created_by text NOT NULL,
    created timestamptz NOT NULL DEFAULT now(),
    expires timestamptz NOT NULL
);

CREATE TABLE audit (
    id bigint PRIMARY KEY GENERATED ALWAYS AS IDENTITY,
    at timestamptz NOT NULL DEFAULT now(),
    who text NOT NULL,
    what text NOT NULL,
    detail text NOT NULL DEFAULT ''
);

-- +goose Down
DROP TABLE audit, tokens, operators, orders, enrolments, agents, problems, changes, runs, claims, links,
    cloud_state, resources, dirty, directory_states, entries, settings_revisions;
