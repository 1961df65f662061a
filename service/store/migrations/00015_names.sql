-- +goose Up
-- Entries are looked for by their logins, the living before the gone.
CREATE INDEX entries_login ON entries (lower(login)) WHERE login <> '' AND kind <> 'container';
-- Names of several parts are compared in another order now: these are read anew.
UPDATE entries SET digest = '' WHERE path LIKE '%+%' OR path LIKE '%  %'
    OR (directory, id) IN (SELECT directory, group_id FROM memberships WHERE member_path LIKE '%+%' OR member_path LIKE '%  %');
UPDATE directory_states SET cookie = NULL WHERE directory IN (SELECT directory FROM entries WHERE digest = '');

-- +goose Down
DROP INDEX entries_login;
