-- +goose Up
-- Until when a resource stays whose entry has left, as the guard has let it (links), and
-- as a change says (changes). Those that have left before are decided about anew.
ALTER TABLE links ADD due timestamptz;
ALTER TABLE links_aside ADD due timestamptz;
ALTER TABLE changes ADD due timestamptz;
CREATE OR REPLACE VIEW ties AS
    SELECT directory, entry_id, resource_id, kind, left_at, due FROM links
    UNION ALL SELECT j.directory, j.entry_id, l.resource_id, l.kind, l.left_at, l.due FROM followers j
        JOIN links l ON l.directory = j.lead_directory AND l.entry_id = j.lead_id;
INSERT INTO dirty (directory, entry_id) SELECT directory, entry_id FROM links WHERE left_at IS NOT NULL ON CONFLICT DO NOTHING;

-- +goose Down
DROP VIEW ties;
CREATE VIEW ties AS
    SELECT directory, entry_id, resource_id, kind, left_at FROM links
    UNION ALL SELECT j.directory, j.entry_id, l.resource_id, l.kind, l.left_at FROM followers j
        JOIN links l ON l.directory = j.lead_directory AND l.entry_id = j.lead_id;
ALTER TABLE links DROP due;
ALTER TABLE links_aside DROP due;
ALTER TABLE changes DROP due;
