-- +goose Up
-- Groups of the cloud that are kept in directories: links whose owner is the cloud. They
-- stand apart from the links of what is synced up, since one group may be in several
-- directories, and since no decision about an entry may take one for the other.
CREATE TABLE cloud_groups (
    directory text NOT NULL,
    resource_id text NOT NULL,
    entry_id uuid NOT NULL,
    name text NOT NULL,
    dn text NOT NULL,
    sid text NOT NULL DEFAULT '',
    -- What the entry was last given, by attribute, so that a change there is told from one
    -- in the cloud.
    written jsonb NOT NULL DEFAULT '{}',
    how text NOT NULL,
    run_id bigint NOT NULL,
    since timestamptz NOT NULL DEFAULT now(),
    left_at timestamptz,
    due timestamptz,
    -- Deleted in the directory, and not to be made again; no longer kept, and not to go: so
    -- somebody has said.
    forgone boolean NOT NULL DEFAULT false,
    stays boolean NOT NULL DEFAULT false,
    PRIMARY KEY (directory, resource_id)
);
CREATE UNIQUE INDEX cloud_groups_entry ON cloud_groups (directory, entry_id);
CREATE INDEX cloud_groups_resource ON cloud_groups (resource_id);
ALTER TABLE links DROP owner;

-- Directories in which groups of the cloud are kept.
CREATE TABLE cloud_group_directories (directory text PRIMARY KEY);
-- Names that groups take in a directory: of an entry, and across the domain.
CREATE TABLE cloud_group_names (
    directory text NOT NULL,
    key text NOT NULL,
    resource_id text NOT NULL,
    PRIMARY KEY (directory, key)
);
CREATE INDEX cloud_group_names_of ON cloud_group_names (directory, resource_id);
CREATE INDEX entries_account ON entries (directory, lower(attributes -> 'sAMAccountName' ->> 0)) WHERE attributes -> 'sAMAccountName' IS NOT NULL;
-- Members that the directory did not take, or did not let go.
CREATE TABLE cloud_group_refusals (
    directory text NOT NULL,
    resource_id text NOT NULL,
    dn text NOT NULL,
    path text COLLATE "C" NOT NULL,
    code text NOT NULL,
    detail text NOT NULL,
    run_id bigint NOT NULL,
    PRIMARY KEY (directory, resource_id, dn)
);
-- Members that would have been removed, and an operator has said that they stay.
CREATE TABLE cloud_group_kept (
    directory text NOT NULL,
    resource_id text NOT NULL,
    dn text NOT NULL,
    run_id bigint NOT NULL,
    by text NOT NULL,
    reason text NOT NULL,
    made timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (directory, resource_id, dn)
);

-- How many members a trial of a group writes.
ALTER TABLE runs ADD members integer NOT NULL DEFAULT 0;

-- What the next plan must look at: groups, with members where all of them are to be
-- compared, and single members: 'r:' and the id of a resource, 'e:' and that of an entry,
-- 'p:' and the path of what is no entry of the mirror. drift: the directory has told it.
CREATE TABLE dirty_cloud_groups (
    directory text NOT NULL,
    resource_id text NOT NULL,
    members boolean NOT NULL DEFAULT false,
    PRIMARY KEY (directory, resource_id)
);
CREATE TABLE dirty_cloud_members (
    directory text NOT NULL,
    resource_id text NOT NULL,
    member text NOT NULL,
    drift boolean NOT NULL DEFAULT false,
    PRIMARY KEY (directory, resource_id, member)
);

-- drift: the change puts back what somebody has changed in the directory; by and at as
-- far as the directory tells.
ALTER TABLE changes ADD drift boolean NOT NULL DEFAULT false, ADD drift_by text NOT NULL DEFAULT '', ADD drift_at timestamptz;
CREATE INDEX changes_cloud_groups ON changes (directory, resource_id, id) WHERE side = 'directory';
CREATE INDEX changes_drift ON changes (id) WHERE drift;

-- What is marked follows from what the mirrors and links become, whoever changes them: so
-- the tables mark it themselves, a statement at a time.
-- +goose StatementBegin
CREATE FUNCTION mark_cloud_members(ids text[]) RETURNS void LANGUAGE sql AS $$
    INSERT INTO dirty_cloud_members (directory, resource_id, member)
        SELECT g.directory, g.resource_id, 'r:' || rm.member_id FROM resource_members rm JOIN cloud_groups g ON g.resource_id = rm.group_id WHERE rm.member_id = ANY(ids)
    ON CONFLICT DO NOTHING
$$;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE FUNCTION mark_cloud_entries(directories text[], ids uuid[]) RETURNS void LANGUAGE sql AS $$
    INSERT INTO dirty_cloud_members (directory, resource_id, member)
        SELECT g.directory, g.resource_id, 'e:' || m.member_id FROM unnest(directories, ids) AS t(d, i) JOIN memberships m ON m.directory = d AND m.member_id = i
        JOIN cloud_groups g ON g.directory = m.directory AND g.entry_id = m.group_id
    ON CONFLICT DO NOTHING
$$;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE FUNCTION cloud_groups_of_resources() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF EXISTS (SELECT FROM cloud_group_directories) THEN
        INSERT INTO dirty_cloud_groups (directory, resource_id) SELECT d.directory, c.id FROM changed c, cloud_group_directories d WHERE c.kind = 'group' ON CONFLICT DO NOTHING;
    END IF;
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER cloud_groups_insert AFTER INSERT ON resources REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION cloud_groups_of_resources();
CREATE TRIGGER cloud_groups_update AFTER UPDATE ON resources REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION cloud_groups_of_resources();
CREATE TRIGGER cloud_groups_delete AFTER DELETE ON resources REFERENCING OLD TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION cloud_groups_of_resources();
-- +goose StatementBegin
CREATE FUNCTION cloud_groups_of_resource_members() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF EXISTS (SELECT FROM cloud_group_directories) THEN
        INSERT INTO dirty_cloud_members (directory, resource_id, member) SELECT g.directory, g.resource_id, 'r:' || c.member_id FROM changed c JOIN cloud_groups g ON g.resource_id = c.group_id ON CONFLICT DO NOTHING;
    END IF;
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER cloud_groups_insert AFTER INSERT ON resource_members REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION cloud_groups_of_resource_members();
CREATE TRIGGER cloud_groups_delete AFTER DELETE ON resource_members REFERENCING OLD TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION cloud_groups_of_resource_members();
-- +goose StatementBegin
CREATE FUNCTION cloud_groups_of_links() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF EXISTS (SELECT FROM cloud_groups) THEN
        PERFORM mark_cloud_members(ARRAY(SELECT resource_id FROM changed));
        PERFORM mark_cloud_entries(ARRAY(SELECT directory FROM changed), ARRAY(SELECT entry_id FROM changed));
    END IF;
    IF EXISTS (SELECT FROM cloud_group_directories) THEN -- whose group it is, is another matter now
        INSERT INTO dirty_cloud_groups (directory, resource_id) SELECT d.directory, c.resource_id FROM changed c, cloud_group_directories d WHERE c.kind = 'group' ON CONFLICT DO NOTHING;
    END IF;
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER cloud_groups_insert AFTER INSERT ON links REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION cloud_groups_of_links();
CREATE TRIGGER cloud_groups_new AFTER UPDATE ON links REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION cloud_groups_of_links();
CREATE TRIGGER cloud_groups_old AFTER UPDATE ON links REFERENCING OLD TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION cloud_groups_of_links();
CREATE TRIGGER cloud_groups_delete AFTER DELETE ON links REFERENCING OLD TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION cloud_groups_of_links();
-- +goose StatementBegin
CREATE FUNCTION cloud_groups_of_followers() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF EXISTS (SELECT FROM cloud_groups) THEN
        PERFORM mark_cloud_members(ARRAY(SELECT l.resource_id FROM changed c JOIN links l ON l.directory = c.lead_directory AND l.entry_id = c.lead_id));
        PERFORM mark_cloud_entries(ARRAY(SELECT directory FROM changed), ARRAY(SELECT entry_id FROM changed));
    END IF;
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER cloud_groups_insert AFTER INSERT ON followers REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION cloud_groups_of_followers();
CREATE TRIGGER cloud_groups_new AFTER UPDATE ON followers REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION cloud_groups_of_followers();
CREATE TRIGGER cloud_groups_old AFTER UPDATE ON followers REFERENCING OLD TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION cloud_groups_of_followers();
CREATE TRIGGER cloud_groups_delete AFTER DELETE ON followers REFERENCING OLD TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION cloud_groups_of_followers();
-- +goose StatementBegin
CREATE FUNCTION cloud_groups_of_memberships() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF EXISTS (SELECT FROM cloud_groups) THEN
        INSERT INTO dirty_cloud_members (directory, resource_id, member, drift) SELECT DISTINCT g.directory, g.resource_id, coalesce('e:' || c.member_id, 'p:' || c.member_path), TG_OP <> 'UPDATE'
            FROM changed c JOIN cloud_groups g ON g.directory = c.directory AND g.entry_id = c.group_id ON CONFLICT (directory, resource_id, member) DO UPDATE SET drift = dirty_cloud_members.drift OR excluded.drift;
    END IF;
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER cloud_groups_insert AFTER INSERT ON memberships REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION cloud_groups_of_memberships();
CREATE TRIGGER cloud_groups_new AFTER UPDATE ON memberships REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION cloud_groups_of_memberships();
CREATE TRIGGER cloud_groups_old AFTER UPDATE ON memberships REFERENCING OLD TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION cloud_groups_of_memberships();
CREATE TRIGGER cloud_groups_delete AFTER DELETE ON memberships REFERENCING OLD TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION cloud_groups_of_memberships();
-- +goose StatementBegin
CREATE FUNCTION cloud_groups_of_entries() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF EXISTS (SELECT FROM cloud_groups) THEN
        INSERT INTO dirty_cloud_groups (directory, resource_id) SELECT g.directory, g.resource_id FROM changed c JOIN cloud_groups g ON g.directory = c.directory AND g.entry_id = c.id ON CONFLICT DO NOTHING;
        PERFORM mark_cloud_members(ARRAY(SELECT t.resource_id FROM changed c JOIN was w ON w.directory = c.directory AND w.id = c.id JOIN ties t ON t.directory = c.directory AND t.entry_id = c.id
            WHERE w.path <> c.path OR (w.gone IS NULL) <> (c.gone IS NULL)));
    END IF;
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER cloud_groups_update AFTER UPDATE ON entries REFERENCING NEW TABLE AS changed OLD TABLE AS was FOR EACH STATEMENT EXECUTE FUNCTION cloud_groups_of_entries();
-- +goose StatementBegin
CREATE FUNCTION cloud_groups_of_groups() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM mark_cloud_members(ARRAY(SELECT resource_id FROM changed));
    PERFORM mark_cloud_entries(ARRAY(SELECT directory FROM changed), ARRAY(SELECT entry_id FROM changed));
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER cloud_groups_insert AFTER INSERT ON cloud_groups REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION cloud_groups_of_groups();
-- +goose StatementBegin
CREATE FUNCTION cloud_groups_of_other_groups() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM mark_cloud_members(ARRAY(SELECT c.resource_id FROM changed c JOIN was w ON w.directory = c.directory AND w.resource_id = c.resource_id
        WHERE w.entry_id <> c.entry_id OR w.dn <> c.dn OR w.forgone <> c.forgone));
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER cloud_groups_update AFTER UPDATE ON cloud_groups REFERENCING NEW TABLE AS changed OLD TABLE AS was FOR EACH STATEMENT EXECUTE FUNCTION cloud_groups_of_other_groups();
CREATE TRIGGER cloud_groups_delete AFTER DELETE ON cloud_groups REFERENCING OLD TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION cloud_groups_of_groups();

-- +goose Down
DROP TRIGGER cloud_groups_update ON entries;
DROP TRIGGER cloud_groups_insert ON memberships;
DROP TRIGGER cloud_groups_new ON memberships;
DROP TRIGGER cloud_groups_old ON memberships;
DROP TRIGGER cloud_groups_delete ON memberships;
DROP TRIGGER cloud_groups_insert ON followers;
DROP TRIGGER cloud_groups_new ON followers;
DROP TRIGGER cloud_groups_old ON followers;
DROP TRIGGER cloud_groups_delete ON followers;
DROP TRIGGER cloud_groups_insert ON links;
DROP TRIGGER cloud_groups_new ON links;
DROP TRIGGER cloud_groups_old ON links;
DROP TRIGGER cloud_groups_delete ON links;
DROP TRIGGER cloud_groups_insert ON resource_members;
DROP TRIGGER cloud_groups_delete ON resource_members;
DROP TRIGGER cloud_groups_insert ON resources;
DROP TRIGGER cloud_groups_update ON resources;
DROP TRIGGER cloud_groups_delete ON resources;
ALTER TABLE runs DROP members;
DROP TABLE cloud_group_kept, dirty_cloud_members, dirty_cloud_groups, cloud_group_refusals, cloud_group_names, cloud_group_directories, cloud_groups;
DROP FUNCTION cloud_groups_of_resources, cloud_groups_of_resource_members, cloud_groups_of_links, cloud_groups_of_followers, cloud_groups_of_memberships, cloud_groups_of_entries, cloud_groups_of_groups, cloud_groups_of_other_groups, mark_cloud_members, mark_cloud_entries;
DROP INDEX entries_account, changes_cloud_groups, changes_drift;
ALTER TABLE changes DROP drift, DROP drift_by, DROP drift_at;
ALTER TABLE links ADD owner text NOT NULL DEFAULT 'directory' CHECK (owner IN ('cloud', 'directory'));
