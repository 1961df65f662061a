-- +goose Up
-- Groups that changed in the cloud and whose members have not been read since: a read that ends
-- in between would take them for known the next time.
CREATE TABLE unread_members (group_id text PRIMARY KEY);

-- +goose Down
DROP TABLE unread_members;
