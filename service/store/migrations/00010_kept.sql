-- +goose Up
-- What a run would have taken away, and operators have discarded: it stays for as long
-- as the cause does not change.
CREATE TABLE kept (
    directory text NOT NULL, entry_id uuid NOT NULL,
    loss text NOT NULL, member text NOT NULL DEFAULT '',
    cause text NOT NULL DEFAULT '',
    run_id bigint NOT NULL, by text NOT NULL, reason text NOT NULL, made timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (directory, entry_id, loss, member)
);
ALTER TABLE links ADD kept boolean NOT NULL DEFAULT false;
-- Of what a run releases, these changes alone; none means all.
ALTER TABLE runs ADD released_only jsonb;

-- +goose Down
ALTER TABLE runs DROP released_only;
ALTER TABLE links DROP kept;
DROP TABLE kept;
