-- +goose Up
CREATE TABLE draft_edits (
  draft INTEGER NOT NULL REFERENCES drafts (id), kind TEXT NOT NULL, name TEXT NOT NULL, text TEXT NOT NULL, removed INTEGER NOT NULL,
  base INTEGER NOT NULL, who TEXT NOT NULL, at TEXT NOT NULL, PRIMARY KEY (draft, kind, name)
) STRICT;
CREATE TABLE newcomers (
  id TEXT PRIMARY KEY, uid TEXT NOT NULL, credential TEXT NOT NULL, host TEXT NOT NULL, host_id TEXT NOT NULL, name TEXT NOT NULL,
  origin TEXT NOT NULL, why TEXT NOT NULL, since TEXT NOT NULL, denied_at TEXT NOT NULL DEFAULT '', approved TEXT NOT NULL DEFAULT ''
) STRICT;
CREATE INDEX audit_at ON audit (at);
-- +goose Down
SELECT 1;
