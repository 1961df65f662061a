-- +goose Up
-- For which directories an agent fails while others may be well, since when and how often.
CREATE TABLE agent_faults (
    agent_id uuid NOT NULL REFERENCES agents ON DELETE CASCADE,
    directory text NOT NULL,
    code text NOT NULL,
    detail text NOT NULL,
    since timestamptz NOT NULL DEFAULT now(),
    times integer NOT NULL DEFAULT 1,
    PRIMARY KEY (agent_id, directory)
);
-- Who alone may take an order and from when on, whether it looks at an agent that is
-- at fault, who has failed it, and how often it was taken.
ALTER TABLE orders ADD only_agent uuid, ADD not_before timestamptz, ADD checkup boolean NOT NULL DEFAULT false,
    ADD failed_by uuid[] NOT NULL DEFAULT '{}', ADD taken integer NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE orders DROP only_agent, DROP not_before, DROP checkup, DROP failed_by, DROP taken;
DROP TABLE agent_faults;
