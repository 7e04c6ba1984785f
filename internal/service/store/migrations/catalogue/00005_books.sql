-- +goose Up
CREATE TABLE former_hosts (
  id INTEGER PRIMARY KEY AUTOINCREMENT, name TEXT NOT NULL, uid TEXT NOT NULL, host_id TEXT NOT NULL, service_name TEXT NOT NULL,
  labels TEXT NOT NULL, settings TEXT NOT NULL, joined_at TEXT NOT NULL, retired_at TEXT NOT NULL
) STRICT;
CREATE INDEX assignments_hash ON assignments (hash);
-- +goose Down
SELECT 1;
