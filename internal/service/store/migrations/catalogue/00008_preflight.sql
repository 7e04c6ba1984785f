-- +goose Up
-- What hosts found when they rehearsed a draft or revision last.
CREATE TABLE preflights (
  draft INTEGER NOT NULL, revision INTEGER NOT NULL, at TEXT NOT NULL, author TEXT NOT NULL, result TEXT NOT NULL,
  PRIMARY KEY (draft, revision)
) STRICT, WITHOUT ROWID;
-- +goose Down
SELECT 1;
