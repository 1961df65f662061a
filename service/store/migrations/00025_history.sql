-- +goose Up
-- How entries, resources and links were, until when. Only what is replaced is kept, so a
-- first run keeps nothing. attributes is null where they are those of the next version, so
-- that a container's new name costs names alone; of resources they are without meta.
ALTER TABLE entries ADD seen timestamptz NOT NULL DEFAULT now();
ALTER TABLE resources ADD seen timestamptz NOT NULL DEFAULT now();
CREATE TABLE entry_history (
    number bigint GENERATED ALWAYS AS IDENTITY, -- versions of one transaction end together
    directory text NOT NULL, id uuid NOT NULL, until timestamptz NOT NULL DEFAULT now(),
    kind text NOT NULL, dn text NOT NULL, attributes jsonb, gone timestamptz
);
CREATE INDEX entry_history_of ON entry_history (directory, id, number);
CREATE INDEX entry_history_until ON entry_history USING brin (until);
CREATE TABLE resource_history (
    number bigint GENERATED ALWAYS AS IDENTITY,
    id text NOT NULL, until timestamptz NOT NULL DEFAULT now(),
    kind text NOT NULL, attributes jsonb NOT NULL, seen timestamptz NOT NULL,
    -- It was gone from the cloud then.
    dropped boolean NOT NULL DEFAULT false
);
CREATE INDEX resource_history_of ON resource_history (id, number);
CREATE INDEX resource_history_until ON resource_history USING brin (until);
CREATE TABLE link_history (
    number bigint GENERATED ALWAYS AS IDENTITY,
    directory text NOT NULL, entry_id uuid NOT NULL, until timestamptz NOT NULL DEFAULT now(),
    resource_id text NOT NULL, link_key text NOT NULL, how text NOT NULL, run_id bigint NOT NULL, since timestamptz NOT NULL, left_at timestamptz, due timestamptz
);
CREATE INDEX link_history_of ON link_history (directory, entry_id, number);
CREATE INDEX link_history_resource ON link_history (resource_id, until);

-- +goose StatementBegin
CREATE FUNCTION keep_entries() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
    INSERT INTO entry_history (directory, id, kind, dn, attributes, gone)
        SELECT w.directory, w.id, w.kind, w.dn, CASE WHEN w.attributes IS DISTINCT FROM c.attributes THEN w.attributes END, w.gone
        FROM was w JOIN changed c ON c.directory = w.directory AND c.id = w.id
        WHERE w.kind <> 'container' AND (w.attributes IS DISTINCT FROM c.attributes OR w.dn <> c.dn OR (w.gone IS NULL) <> (c.gone IS NULL));
    RETURN NULL;
END $$;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE FUNCTION keep_resources() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
    INSERT INTO resource_history (id, kind, attributes, seen)
        SELECT w.id, w.kind, w.attributes - 'meta', w.seen FROM was w JOIN changed c ON c.id = w.id WHERE w.attributes - 'meta' IS DISTINCT FROM c.attributes - 'meta';
    RETURN NULL;
END $$;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE FUNCTION keep_dropped() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
    INSERT INTO resource_history (id, kind, attributes, seen, dropped) SELECT id, kind, attributes - 'meta', seen, true FROM was;
    RETURN NULL;
END $$;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE FUNCTION keep_links() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
    INSERT INTO link_history (directory, entry_id, resource_id, link_key, how, run_id, since, left_at, due)
        SELECT w.directory, w.entry_id, w.resource_id, w.link_key, w.how, w.run_id, w.since, w.left_at, w.due FROM was w
        JOIN changed c ON c.id = w.id WHERE (w.directory, w.entry_id, w.resource_id) IS DISTINCT FROM (c.directory, c.entry_id, c.resource_id) OR (w.left_at IS NULL) <> (c.left_at IS NULL);
    RETURN NULL;
END $$;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE FUNCTION keep_dropped_links() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
    INSERT INTO link_history (directory, entry_id, resource_id, link_key, how, run_id, since, left_at, due)
        SELECT directory, entry_id, resource_id, link_key, how, run_id, since, left_at, due FROM was;
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER keep AFTER UPDATE ON entries REFERENCING OLD TABLE AS was NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION keep_entries();
CREATE TRIGGER keep AFTER UPDATE ON resources REFERENCING OLD TABLE AS was NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION keep_resources();
CREATE TRIGGER keep_dropped AFTER DELETE ON resources REFERENCING OLD TABLE AS was FOR EACH STATEMENT EXECUTE FUNCTION keep_dropped();
CREATE TRIGGER keep AFTER UPDATE ON links REFERENCING OLD TABLE AS was NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION keep_links();
CREATE TRIGGER keep_dropped AFTER DELETE ON links REFERENCING OLD TABLE AS was FOR EACH STATEMENT EXECUTE FUNCTION keep_dropped_links();

-- +goose Down
DROP TRIGGER keep ON entries;
DROP TRIGGER keep ON resources;
DROP TRIGGER keep_dropped ON resources;
DROP TRIGGER keep ON links;
DROP TRIGGER keep_dropped ON links;
DROP FUNCTION keep_entries, keep_resources, keep_dropped, keep_links, keep_dropped_links;
DROP TABLE entry_history, resource_history, link_history;
ALTER TABLE entries DROP seen;
ALTER TABLE resources DROP seen;
