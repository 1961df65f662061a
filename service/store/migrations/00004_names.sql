-- +goose Up
-- What objects are called and listed by: displayed names first, and logins.
ALTER TABLE entries
    ADD name text GENERATED ALWAYS AS (coalesce(nullif(trim(attributes->'displayName'->>0), ''), nullif(trim(attributes->'cn'->>0), ''), nullif(trim(attributes->'uid'->>0), ''), dn)) STORED,
    ADD login text GENERATED ALWAYS AS (coalesce(attributes->'userPrincipalName'->>0, attributes->'mail'->>0, '')) STORED;
CREATE INDEX entries_name ON entries (lower(name), id) WHERE kind <> 'container';
ALTER TABLE resources
    ADD name text GENERATED ALWAYS AS (coalesce(nullif(attributes->>'displayName', ''), nullif(attributes->>'userName', ''), id)) STORED,
    ADD login text GENERATED ALWAYS AS (coalesce(attributes->>'userName', '')) STORED;

-- +goose Down
ALTER TABLE resources DROP name, DROP login;
DROP INDEX entries_name;
ALTER TABLE entries DROP name, DROP login;
