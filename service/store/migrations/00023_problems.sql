-- +goose Up
-- By which run a problem was closed; and what people say of one that is open: who looks
-- after it, a note, and until when it sleeps, which only puts it behind the others.
ALTER TABLE problems ADD closed_run bigint NOT NULL DEFAULT 0,
    ADD assigned text NOT NULL DEFAULT '', ADD note text NOT NULL DEFAULT '', ADD asleep timestamptz,
    ADD marked_by text NOT NULL DEFAULT '', ADD marked timestamptz;
CREATE INDEX problems_first_run ON problems (first_run);
CREATE INDEX problems_closed_run ON problems (closed_run) WHERE closed_run > 0;
CREATE INDEX problems_code ON problems (code) WHERE closed IS NULL;

-- +goose Down
DROP INDEX problems_first_run, problems_closed_run, problems_code;
ALTER TABLE problems DROP closed_run, DROP assigned, DROP note, DROP asleep, DROP marked_by, DROP marked;
