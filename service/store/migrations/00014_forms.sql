-- +goose Up
-- What the cloud keeps of values that it writes its own way, by target.
ALTER TABLE resources ADD forms jsonb;
CREATE INDEX resources_forms ON resources (kind) WHERE forms IS NOT NULL;

-- +goose Down
ALTER TABLE resources DROP forms;
