-- +goose Up
-- Attributes that entries of a directory have (expected), of which nothing can be read
-- any more (hidden), and of which an operator has said that they are gone (absent).
ALTER TABLE directory_states ADD expected text[] NOT NULL DEFAULT '{}', ADD hidden text[] NOT NULL DEFAULT '{}', ADD absent text[] NOT NULL DEFAULT '{}';

-- +goose Down
ALTER TABLE directory_states DROP expected, DROP hidden, DROP absent;
