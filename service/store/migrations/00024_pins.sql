-- +goose Up
-- What operators have put back, against the rules or the scope: an attribute, an element
-- of a list, or whether the entry takes part ('scope'). value is what the resource shall
-- have; of the two latter whether.
CREATE TABLE pins (
    directory text NOT NULL, entry_id uuid NOT NULL,
    target text NOT NULL, element text NOT NULL DEFAULT '',
    -- What people call the element.
    name text NOT NULL DEFAULT '',
    value jsonb,
    run_id bigint NOT NULL, by text NOT NULL, made timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (directory, entry_id, target, element)
);
-- The run that an undo takes back.
ALTER TABLE runs ADD undoes bigint NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE runs DROP undoes;
DROP TABLE pins;
