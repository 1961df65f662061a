-- +goose Up
-- Who signed in or tried to is looked at every few seconds, however much else was done meanwhile.
CREATE INDEX acts_sign_in ON acts (at) WHERE kind = 'sign-in';

-- +goose Down
DROP INDEX acts_sign_in;
