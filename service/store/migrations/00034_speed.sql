-- +goose Up
-- Which changes are on their way to the cloud, a row for each chunk.
CREATE TABLE sendings (
    id bigint PRIMARY KEY GENERATED ALWAYS AS IDENTITY,
    run_id bigint NOT NULL REFERENCES runs ON DELETE CASCADE,
    changes bigint[] NOT NULL,
    sent timestamptz NOT NULL DEFAULT now()
);

-- A run's changes are deleted with it by the one statement that deletes runs. To look for the
-- run of each was a fifth of what it takes to plan.
ALTER TABLE changes DROP CONSTRAINT changes_run_id_fkey;

-- Nothing is planned by what these columns hold most often, and to find that out takes long,
-- since they are wide.
ALTER TABLE entries ALTER attributes SET STATISTICS 0, ALTER digest SET STATISTICS 0, ALTER search SET STATISTICS 0;
ALTER TABLE resources ALTER attributes SET STATISTICS 0, ALTER digest SET STATISTICS 0, ALTER search SET STATISTICS 0, ALTER keys SET STATISTICS 10;
ALTER TABLE changes ALTER diffs SET STATISTICS 0, ALTER searched SET STATISTICS 0, ALTER dn SET STATISTICS 0, ALTER name SET STATISTICS 0;

-- What a change is about is written again, as it is, with each of its states. It says the same
-- words for everybody, so that it is half as long compressed; it is shorter than what is
-- compressed otherwise. Not every PostgreSQL has the quick way of doing so.
-- +goose StatementBegin
DO $$ BEGIN
    ALTER TABLE changes ALTER diffs SET COMPRESSION lz4;
    ALTER TABLE changes ALTER diffs SET STORAGE MAIN;
    ALTER TABLE changes SET (toast_tuple_target = 512);
EXCEPTION WHEN feature_not_supported THEN NULL;
END $$;
-- +goose StatementEnd

-- Of each resource by the index: joined, PostgreSQL reads all links for every two hundred.
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION loose_come() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
    INSERT INTO loose_resources SELECT c.id FROM changed c WHERE (SELECT l.id FROM links l WHERE l.resource_id = c.id) IS NULL ON CONFLICT DO NOTHING;
    RETURN NULL;
END $$;
-- +goose StatementEnd

-- +goose Down
ALTER TABLE changes RESET (toast_tuple_target);
ALTER TABLE changes ALTER diffs SET STORAGE EXTENDED;
ALTER TABLE changes ALTER diffs SET COMPRESSION DEFAULT;
ALTER TABLE entries ALTER attributes SET STATISTICS -1, ALTER digest SET STATISTICS -1, ALTER search SET STATISTICS -1;
ALTER TABLE resources ALTER attributes SET STATISTICS -1, ALTER digest SET STATISTICS -1, ALTER search SET STATISTICS -1, ALTER keys SET STATISTICS -1;
ALTER TABLE changes ALTER diffs SET STATISTICS -1, ALTER searched SET STATISTICS -1, ALTER dn SET STATISTICS -1, ALTER name SET STATISTICS -1;
DELETE FROM changes c WHERE NOT EXISTS (SELECT FROM runs u WHERE u.id = c.run_id);
ALTER TABLE changes ADD CONSTRAINT changes_run_id_fkey FOREIGN KEY (run_id) REFERENCES runs ON DELETE CASCADE;
UPDATE changes c SET state = 'sent', sent = o.sent, attempts = c.attempts + 1 FROM sendings o, unnest(o.changes) i WHERE c.id = i AND c.state = 'planned';
DROP TABLE sendings;
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION loose_come() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
    INSERT INTO loose_resources SELECT c.id FROM changed c WHERE NOT EXISTS (SELECT FROM links l WHERE l.resource_id = c.id) ON CONFLICT DO NOTHING;
    RETURN NULL;
END $$;
-- +goose StatementEnd
