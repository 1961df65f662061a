-- +goose Up
-- Groups and contacts go to the cloud as people do.
ALTER TABLE resources ADD kind text NOT NULL DEFAULT 'user';
-- What is of a rare kind is listed without reading everybody.
CREATE INDEX resources_kind ON resources (kind) WHERE kind <> 'user';
ALTER TABLE links ADD kind text NOT NULL DEFAULT 'user';
ALTER TABLE changes ADD kind text NOT NULL DEFAULT 'user';
CREATE INDEX links_left ON links (left_at) WHERE left_at IS NOT NULL;
ALTER TABLE cloud_state DROP one, ADD kind text PRIMARY KEY DEFAULT 'user';

-- Members of groups in the cloud mirror, by ids of resources.
CREATE TABLE resource_members (
    group_id text NOT NULL,
    member_id text NOT NULL,
    PRIMARY KEY (group_id, member_id)
);
CREATE INDEX resource_members_member ON resource_members (member_id);

-- Attributes by which entries name other entries, such as their manager.
-- target_id is unknown while that entry has not been read.
CREATE TABLE pointers (
    directory text NOT NULL,
    entry_id uuid NOT NULL,
    attribute text NOT NULL,
    path text COLLATE "C" NOT NULL,
    target_id uuid,
    PRIMARY KEY (directory, entry_id, attribute, path)
);
CREATE INDEX pointers_target ON pointers (directory, target_id);
CREATE INDEX pointers_unknown ON pointers (directory, path) WHERE target_id IS NULL;
ALTER TABLE directory_states ADD pointers text[] NOT NULL DEFAULT '{}';

-- Whose members or references the plan must compare, once links are made.
CREATE TABLE dirty_references (
    directory text NOT NULL,
    entry_id uuid NOT NULL,
    PRIMARY KEY (directory, entry_id)
);

-- By what entries are one person with entries of other directories; inside: it
-- is in scope.
CREATE TABLE join_keys (
    directory text NOT NULL,
    entry_id uuid NOT NULL,
    key text NOT NULL,
    inside boolean NOT NULL,
    PRIMARY KEY (directory, entry_id, key)
);
CREATE INDEX join_keys_key ON join_keys (key);

-- Entries that follow the entry that leads their person, or with a code those
-- that cannot be told whose they are.
CREATE TABLE joins (
    directory text NOT NULL,
    entry_id uuid NOT NULL,
    lead_directory text NOT NULL,
    lead_id uuid,
    rule text NOT NULL,
    code text NOT NULL DEFAULT '',
    detail text NOT NULL DEFAULT '',
    PRIMARY KEY (directory, entry_id)
);
CREATE INDEX joins_lead ON joins (lead_directory, lead_id);

-- To which resource an entry leads, by its own link or by that of its lead.
CREATE VIEW ties AS
    SELECT directory, entry_id, resource_id, kind, left_at FROM links
    UNION ALL SELECT j.directory, j.entry_id, l.resource_id, l.kind, l.left_at FROM joins j
        JOIN links l ON l.directory = j.lead_directory AND l.entry_id = j.lead_id;

-- Single members that the plan must compare, of groups that are not compared as
-- a whole.
CREATE TABLE dirty_members (
    directory text NOT NULL,
    group_id uuid NOT NULL,
    member_id uuid NOT NULL,
    PRIMARY KEY (directory, group_id, member_id)
);

-- What operators have decided about entries that no rule may decide: link to a
-- resource, or create although somebody looks like the same person.
CREATE TABLE decisions (
    directory text NOT NULL,
    entry_id uuid NOT NULL,
    action text NOT NULL,
    resource_id text NOT NULL DEFAULT '',
    by text NOT NULL,
    made timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (directory, entry_id)
);

-- The one entry of a trial, as directory/id.
ALTER TABLE runs ADD subject text NOT NULL DEFAULT '';

-- Resources that a problem names.
ALTER TABLE problems ADD candidates text[] NOT NULL DEFAULT '{}';
ALTER TABLE changes ADD candidates text[] NOT NULL DEFAULT '{}';
ALTER TABLE links_aside ADD kind text NOT NULL DEFAULT 'user';

-- Groups and contacts that were read before are looked at by the next run.
INSERT INTO dirty (directory, entry_id) SELECT directory, id FROM entries WHERE kind IN ('group', 'contact') AND gone IS NULL
    ON CONFLICT (directory, entry_id) DO UPDATE SET state = 0;
INSERT INTO dirty_references (directory, entry_id) SELECT DISTINCT directory, group_id FROM memberships;

-- +goose Down
DROP VIEW ties;
DROP TABLE dirty_members, decisions, joins, join_keys, dirty_references, pointers, resource_members;
ALTER TABLE directory_states DROP pointers;
ALTER TABLE problems DROP candidates;
ALTER TABLE runs DROP subject;
ALTER TABLE links_aside DROP kind;
ALTER TABLE cloud_state DROP kind, ADD one boolean PRIMARY KEY DEFAULT true CHECK (one);
DROP INDEX links_left, resources_kind;
DELETE FROM links WHERE kind <> 'user';
DELETE FROM resources WHERE kind <> 'user';
ALTER TABLE resources DROP kind;
ALTER TABLE links DROP kind;
ALTER TABLE changes DROP kind, DROP candidates;
