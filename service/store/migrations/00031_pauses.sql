-- +goose Up
-- What operators have stopped.
CREATE TABLE pauses (
    of text NOT NULL, directory text NOT NULL DEFAULT '',
    by text NOT NULL, reason text NOT NULL, since timestamptz NOT NULL DEFAULT now(), until timestamptz,
    PRIMARY KEY (of, directory)
);

-- +goose Down
DROP TABLE pauses;
