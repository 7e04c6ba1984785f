-- +goose Up
CREATE TABLE secrets (
  name TEXT PRIMARY KEY, about TEXT NOT NULL, owner TEXT NOT NULL, created_at TEXT NOT NULL, version INTEGER NOT NULL,
  set_at TEXT NOT NULL, set_by TEXT NOT NULL
) STRICT;
CREATE TABLE secret_versions (name TEXT NOT NULL, version INTEGER NOT NULL, sealed BLOB NOT NULL, PRIMARY KEY (name, version)) STRICT;
CREATE TABLE grants (
  id TEXT PRIMARY KEY, hash BLOB NOT NULL, who TEXT NOT NULL, secret TEXT NOT NULL, created_at TEXT NOT NULL, created_by TEXT NOT NULL,
  expires_at TEXT NOT NULL, ended_at TEXT NOT NULL DEFAULT ''
) STRICT;
CREATE INDEX audit_object ON audit (object);
-- +goose Down
SELECT 1;
