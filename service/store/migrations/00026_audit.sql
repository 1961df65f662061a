-- +goose Up
-- From where an act was done; and by which transaction it was noted, so that acts are
-- passed on in an order in which none comes late.
ALTER TABLE acts ADD origin text NOT NULL DEFAULT '', ADD tx xid8 NOT NULL DEFAULT pg_current_xact_id();
CREATE INDEX acts_tx ON acts (tx, id);
CREATE INDEX acts_at ON acts (at);
-- How far acts were passed on, by where to.
CREATE TABLE act_streams (name text PRIMARY KEY, tx xid8 NOT NULL DEFAULT '0', id bigint NOT NULL DEFAULT 0);

-- +goose Down
DROP TABLE act_streams;
DROP INDEX acts_at, acts_tx;
ALTER TABLE acts DROP tx, DROP origin;
