-- +goose Up
-- Resources that no entry has, kept as resources and links come and go: a list of everybody
-- shows them between the entries, and must not look for them among all.
CREATE TABLE loose_resources (resource_id text PRIMARY KEY);
INSERT INTO loose_resources SELECT id FROM resources r WHERE NOT EXISTS (SELECT FROM links l WHERE l.resource_id = r.id);

-- +goose StatementBegin
CREATE FUNCTION loose_come() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
    INSERT INTO loose_resources SELECT c.id FROM changed c WHERE NOT EXISTS (SELECT FROM links l WHERE l.resource_id = c.id) ON CONFLICT DO NOTHING;
    RETURN NULL;
END $$;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE FUNCTION loose_go() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
    DELETE FROM loose_resources o USING was w WHERE o.resource_id = w.id;
    RETURN NULL;
END $$;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE FUNCTION loose_tied() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
    DELETE FROM loose_resources o USING changed c WHERE o.resource_id = c.resource_id;
    RETURN NULL;
END $$;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE FUNCTION loose_untied() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
    INSERT INTO loose_resources SELECT w.resource_id FROM was w JOIN resources r ON r.id = w.resource_id
        WHERE NOT EXISTS (SELECT FROM links l WHERE l.resource_id = w.resource_id) ON CONFLICT DO NOTHING;
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER loose_come AFTER INSERT ON resources REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION loose_come();
CREATE TRIGGER loose_go AFTER DELETE ON resources REFERENCING OLD TABLE AS was FOR EACH STATEMENT EXECUTE FUNCTION loose_go();
CREATE TRIGGER loose_tied AFTER INSERT ON links REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION loose_tied();
CREATE TRIGGER loose_untied AFTER DELETE ON links REFERENCING OLD TABLE AS was FOR EACH STATEMENT EXECUTE FUNCTION loose_untied();
-- A link that is led to another resource.
CREATE TRIGGER loose_tied_anew AFTER UPDATE ON links REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION loose_tied();
CREATE TRIGGER loose_untied_anew AFTER UPDATE ON links REFERENCING OLD TABLE AS was FOR EACH STATEMENT EXECUTE FUNCTION loose_untied();

-- How many entries of a kind lie directly in a container, kept as they come and go.
CREATE TABLE container_counts (directory text NOT NULL, parent text COLLATE "C" NOT NULL, kind text NOT NULL, n bigint NOT NULL, PRIMARY KEY (directory, parent, kind));
-- What comes before the last slash is the parent's path.
CREATE FUNCTION parent_path(path text) RETURNS text LANGUAGE sql IMMUTABLE AS $$ SELECT left(path, greatest(length(path) - strpos(reverse(path), '/'), 0)) $$;
INSERT INTO container_counts SELECT directory, parent_path(path), kind, count(*) FROM entries WHERE gone IS NULL AND kind <> 'container' GROUP BY 1, 2, 3;
-- +goose StatementBegin
CREATE FUNCTION count_come() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
    INSERT INTO container_counts AS c SELECT directory, parent_path(path), kind, count(*) FROM changed WHERE gone IS NULL AND kind <> 'container' GROUP BY 1, 2, 3 ORDER BY 1, 2, 3
        ON CONFLICT (directory, parent, kind) DO UPDATE SET n = c.n + excluded.n;
    RETURN NULL;
END $$;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE FUNCTION count_moved() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
    INSERT INTO container_counts AS c
        SELECT directory, parent_path(path), kind, sum(one) FROM (SELECT directory, path, kind, gone, 1 AS one FROM changed UNION ALL SELECT directory, path, kind, gone, -1 FROM was) m
            WHERE gone IS NULL AND kind <> 'container' GROUP BY 1, 2, 3 HAVING sum(one) <> 0 ORDER BY 1, 2, 3
        ON CONFLICT (directory, parent, kind) DO UPDATE SET n = c.n + excluded.n;
    RETURN NULL;
END $$;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE FUNCTION count_go() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
    INSERT INTO container_counts AS c SELECT directory, parent_path(path), kind, -count(*) FROM was WHERE gone IS NULL AND kind <> 'container' GROUP BY 1, 2, 3 ORDER BY 1, 2, 3
        ON CONFLICT (directory, parent, kind) DO UPDATE SET n = c.n + excluded.n;
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER count_come AFTER INSERT ON entries REFERENCING NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION count_come();
CREATE TRIGGER count_moved AFTER UPDATE ON entries REFERENCING OLD TABLE AS was NEW TABLE AS changed FOR EACH STATEMENT EXECUTE FUNCTION count_moved();
CREATE TRIGGER count_go AFTER DELETE ON entries REFERENCING OLD TABLE AS was FOR EACH STATEMENT EXECUTE FUNCTION count_go();

-- What runs have done, counted at their end, so that a report of a year reads no changes
-- but those that it names.
CREATE TABLE run_done (
    run_id bigint NOT NULL REFERENCES runs (id) ON DELETE CASCADE,
    kind text NOT NULL, operation text NOT NULL, n bigint NOT NULL, PRIMARY KEY (run_id, kind, operation)
);
INSERT INTO run_done SELECT c.run_id, c.kind, c.operation, count(*) FROM changes c JOIN runs u ON u.id = c.run_id WHERE c.state = 'done' AND u.ended IS NOT NULL GROUP BY 1, 2, 3;
CREATE INDEX changes_failed ON changes (run_id) WHERE state IN ('failed', 'unconfirmed', 'unanswered');
CREATE INDEX links_kind ON links (kind) WHERE kind <> 'user';
CREATE INDEX resources_login ON resources (login);

-- Pages of a run's changes go along their numbers, and a text is looked for in the index,
-- since the rows are wide; no more of it than an index can hold.
ALTER TABLE changes ADD searched text GENERATED ALWAYS AS (left(lower(name || E'\n' || dn), 600)) STORED;
DROP INDEX changes_run;
CREATE INDEX changes_run ON changes (run_id, id) INCLUDE (searched);
-- Runs are many and most are small, which PostgreSQL learns long after the first one, that
-- was large; until then it would read all changes for those of one run.
ALTER TABLE changes ALTER run_id SET (n_distinct = 1000);
ANALYZE changes;

-- +goose Down
DROP INDEX changes_run;
CREATE INDEX changes_run ON changes (run_id, rank, id);
ALTER TABLE changes DROP searched;
ALTER TABLE changes ALTER run_id RESET (n_distinct);
DROP TRIGGER count_come ON entries;
DROP TRIGGER count_moved ON entries;
DROP TRIGGER count_go ON entries;
DROP FUNCTION count_come, count_moved, count_go, parent_path;
DROP TRIGGER loose_come ON resources;
DROP TRIGGER loose_go ON resources;
DROP TRIGGER loose_tied ON links;
DROP TRIGGER loose_untied ON links;
DROP TRIGGER loose_tied_anew ON links;
DROP TRIGGER loose_untied_anew ON links;
DROP FUNCTION loose_come, loose_go, loose_tied, loose_untied;
DROP TABLE loose_resources, run_done, container_counts;
DROP INDEX changes_failed, links_kind, resources_login;
