-- +goose Up
-- What a change takes away, so that the guard can count it; of members how many.
ALTER TABLE changes ADD losses text[] NOT NULL DEFAULT '{}', ADD members_lost integer NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE changes DROP losses, DROP members_lost;
