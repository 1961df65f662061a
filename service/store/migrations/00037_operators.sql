-- +goose Up
-- What a token is for, and when and from where tokens and sessions were used last, to the minute.
ALTER TABLE tokens ADD purpose text NOT NULL DEFAULT '', ADD used timestamptz, ADD used_from text NOT NULL DEFAULT '';
-- Accounts that are for emergencies; everybody is told when one is used.
ALTER TABLE operators ADD emergency boolean NOT NULL DEFAULT false;

-- +goose Down
ALTER TABLE operators DROP emergency;
ALTER TABLE tokens DROP purpose, DROP used, DROP used_from;
