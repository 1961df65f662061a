-- +goose Up
-- The upsert of links fires this also when nothing was updated, which is so in every batch of
-- a first run; its plan then begins with all resources.
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION loose_untied() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
    IF EXISTS (SELECT FROM was) THEN
        INSERT INTO loose_resources SELECT w.resource_id FROM was w JOIN resources r ON r.id = w.resource_id
            WHERE NOT EXISTS (SELECT FROM links l WHERE l.resource_id = w.resource_id) ON CONFLICT DO NOTHING;
    END IF;
    RETURN NULL;
END $$;
-- +goose StatementEnd

-- Each plan asks whether anything is held or kept.
CREATE INDEX links_kept ON links (resource_id) WHERE kept;
