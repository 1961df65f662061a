-- +goose Up
-- Versions of the agent that are passed on to agents whose host trusts the key by which they are signed.
CREATE TABLE releases (
    version text PRIMARY KEY,
    statement text NOT NULL,
    key text NOT NULL,
    made timestamptz NOT NULL,
    added timestamptz NOT NULL DEFAULT now(),
    added_by text NOT NULL
);
CREATE TABLE release_files (
    version text NOT NULL REFERENCES releases ON DELETE CASCADE,
    platform text NOT NULL,
    name text NOT NULL,
    size bigint NOT NULL,
    sha256 text NOT NULL,
    here boolean NOT NULL DEFAULT false,
    PRIMARY KEY (version, platform)
);
-- The programs, in parts, so that neither side holds a whole one.
CREATE TABLE release_parts (
    version text NOT NULL,
    platform text NOT NULL,
    part integer NOT NULL,
    content bytea NOT NULL,
    PRIMARY KEY (version, platform, part),
    FOREIGN KEY (version, platform) REFERENCES release_files ON DELETE CASCADE
);
ALTER TABLE release_parts ALTER content SET STORAGE EXTERNAL;
ALTER TABLE agents ADD platform text NOT NULL DEFAULT '', ADD updates text NOT NULL DEFAULT '',
    ADD update_to text NOT NULL DEFAULT '', ADD update_state text NOT NULL DEFAULT '' CHECK (update_state IN ('', 'waits', 'offered', 'failed')),
    ADD update_since timestamptz, ADD update_by text NOT NULL DEFAULT '', ADD update_detail text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE agents DROP platform, DROP updates, DROP update_to, DROP update_state, DROP update_since, DROP update_by, DROP update_detail;
DROP TABLE release_parts;
DROP TABLE release_files;
DROP TABLE releases;
