-- +goose Up
-- The groups of directories whose members sign in, and as what.
CREATE TABLE operator_groups (
    directory text NOT NULL,
    entry_id uuid NOT NULL,
    role text NOT NULL CHECK (role IN ('viewer', 'operator', 'administrator')),
    created_by text NOT NULL,
    created timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (directory, entry_id)
);
-- Of a session by a directory: whose it is, and when the directory last said that all is still so.
ALTER TABLE tokens ADD directory text NOT NULL DEFAULT '', ADD entry_id uuid, ADD confirmed timestamptz;
-- What an agent said of somebody who signs in.
ALTER TABLE orders ADD signed_in jsonb;
-- The secret of a second factor, sealed by the password, and the last step of time that was used of it.
ALTER TABLE operators ADD second_factor bytea, ADD second_factor_step bigint NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE operators DROP second_factor, DROP second_factor_step;
ALTER TABLE orders DROP signed_in;
ALTER TABLE tokens DROP directory, DROP entry_id, DROP confirmed;
DROP TABLE operator_groups;
