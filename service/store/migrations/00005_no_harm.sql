-- +goose Up
-- held: the removal of its resource waits for an operator, and what hangs on it
-- waits with it.
ALTER TABLE links ADD held boolean NOT NULL DEFAULT false;
CREATE INDEX links_held ON links (resource_id) WHERE held;

-- Who was deleted, so that somebody who comes back under the same name is found.
CREATE INDEX entries_gone ON entries (directory, lower(name)) WHERE gone IS NOT NULL;

-- fault: why an entry cannot be synced as it was read.
ALTER TABLE entries ADD fault text NOT NULL DEFAULT '';

-- How often changes of members were found kept by a cloud.
CREATE TABLE cloud_trust (
    url text PRIMARY KEY,
    member_writes integer NOT NULL
);

-- Creations of which the cloud said that they were done, and that cannot be found.
CREATE INDEX changes_unconfirmed ON changes (kind) WHERE state = 'unconfirmed';

-- failures: how often the run ended with an error that nobody has foreseen.
ALTER TABLE runs ADD failures integer NOT NULL DEFAULT 0;

-- The number of whoever executes runs grows each time; what is written by one
-- with an older number is refused.
CREATE TABLE run_lock (
    one boolean PRIMARY KEY DEFAULT true CHECK (one),
    epoch bigint NOT NULL
);
INSERT INTO run_lock (epoch) VALUES (0);

-- granted: the directories that an agent may speak for; wanted are those that it
-- says that it can.
ALTER TABLE agents ADD granted text[] NOT NULL DEFAULT '{}';
UPDATE agents SET granted = directories;
ALTER TABLE enrolments ADD directories text[] NOT NULL DEFAULT '{}';
-- Signatures of agents that were used.
CREATE TABLE agent_signatures (
    id text PRIMARY KEY,
    expires timestamptz NOT NULL
);
CREATE INDEX agent_signatures_expires ON agent_signatures (expires);

-- +goose Down
DROP TABLE agent_signatures, run_lock, cloud_trust;
ALTER TABLE agents DROP granted;
ALTER TABLE enrolments DROP directories;
ALTER TABLE runs DROP failures;
ALTER TABLE entries DROP fault;
DROP INDEX entries_gone, links_held, changes_unconfirmed;
ALTER TABLE links DROP held;
