-- +goose Up
-- Membership of groups in the source mirror: rows, so that a large group costs
-- what changes. member_id is unknown while the member has not been read.
CREATE TABLE memberships (
    directory text NOT NULL,
    group_id uuid NOT NULL,
    member_path text COLLATE "C" NOT NULL,
    member_id uuid,
    PRIMARY KEY (directory, group_id, member_path)
);
CREATE INDEX memberships_member ON memberships (directory, member_id);
CREATE INDEX memberships_unknown ON memberships (directory, member_path) WHERE member_id IS NULL;
CREATE INDEX entries_kind ON entries (directory, kind) WHERE kind <> 'user';

-- Names that containers had, so that a scope that still uses one can be told
-- where the container is now.
CREATE TABLE former_names (
    directory text NOT NULL,
    path text COLLATE "C" NOT NULL,
    id uuid NOT NULL,
    PRIMARY KEY (directory, path)
);

-- The draft: at most one, changed only by who has seen its version.
CREATE TABLE settings_draft (
    one boolean PRIMARY KEY DEFAULT true CHECK (one),
    version integer NOT NULL,
    base integer NOT NULL,
    document jsonb NOT NULL,
    by text NOT NULL,
    changed timestamptz NOT NULL
);
-- Versions go on counting when a draft is discarded, so that an old page cannot
-- overwrite a new draft.
CREATE SEQUENCE settings_draft_versions;

-- draft: the version of the draft that a run works by, with its document; such
-- a run never writes. cancelled is set from outside the run.
ALTER TABLE runs ADD draft integer NOT NULL DEFAULT 0, ADD document jsonb, ADD cancelled boolean NOT NULL DEFAULT false,
    ADD result jsonb;

-- Orders that belong to no run: probes and repairs.
ALTER TABLE orders ALTER run_id DROP NOT NULL, ADD kind text NOT NULL DEFAULT 'read', ADD result jsonb;

-- Directories that an agent reaches by plain LDAP.
ALTER TABLE agents ADD plain text[] NOT NULL DEFAULT '{}';

-- Directories that were taken away, and their links, until undo is over.
CREATE TABLE removed_directories (
    id bigint PRIMARY KEY GENERATED ALWAYS AS IDENTITY,
    name text NOT NULL,
    directory jsonb NOT NULL,
    by text NOT NULL,
    removed timestamptz NOT NULL DEFAULT now(),
    until timestamptz NOT NULL,
    links integer NOT NULL
);
CREATE TABLE links_aside (
    removal bigint NOT NULL REFERENCES removed_directories ON DELETE CASCADE,
    link_key text NOT NULL,
    resource_id text NOT NULL,
    directory text NOT NULL,
    entry_id uuid NOT NULL,
    how text NOT NULL,
    run_id bigint NOT NULL,
    since timestamptz NOT NULL,
    left_at timestamptz
);
CREATE INDEX links_aside_removal ON links_aside (removal);

-- What a survey found. number is the finding's place in its survey.
CREATE TABLE findings (
    run_id bigint NOT NULL REFERENCES runs ON DELETE CASCADE,
    number integer NOT NULL,
    code text NOT NULL,
    kind text NOT NULL,
    directory text NOT NULL,
    entry_id uuid NOT NULL,
    dn text NOT NULL,
    name text NOT NULL,
    attribute text NOT NULL,
    value text NOT NULL,
    detail text NOT NULL,
    action text NOT NULL,
    proposal text NOT NULL,
    PRIMARY KEY (run_id, number)
);
-- Repairs: values written to directories, each with its result and what was there.
CREATE TABLE repairs (
    id bigint PRIMARY KEY GENERATED ALWAYS AS IDENTITY,
    created timestamptz NOT NULL DEFAULT now(),
    by text NOT NULL,
    undoes bigint NOT NULL DEFAULT 0,
    ended timestamptz
);
CREATE TABLE repair_items (
    repair bigint NOT NULL REFERENCES repairs ON DELETE CASCADE,
    number integer NOT NULL,
    directory text NOT NULL,
    entry_id uuid NOT NULL,
    dn text NOT NULL,
    attribute text NOT NULL,
    before text NOT NULL,
    after text NOT NULL,
    state text NOT NULL DEFAULT 'waiting',
    code text NOT NULL DEFAULT '',
    answer text NOT NULL DEFAULT '',
    PRIMARY KEY (repair, number)
);

-- +goose Down
DROP TABLE repair_items, repairs, findings, links_aside, removed_directories, settings_draft, former_names, memberships;
DROP SEQUENCE settings_draft_versions;
DROP INDEX entries_kind;
DELETE FROM orders WHERE run_id IS NULL;
ALTER TABLE orders ALTER run_id SET NOT NULL, DROP kind, DROP result;
ALTER TABLE agents DROP plain;
ALTER TABLE runs DROP draft, DROP document, DROP cancelled, DROP result;
