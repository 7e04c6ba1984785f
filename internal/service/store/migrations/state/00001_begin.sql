-- +goose Up
CREATE TABLE host_states (host TEXT PRIMARY KEY, state TEXT NOT NULL) STRICT;
CREATE TABLE latest_numbers (host TEXT PRIMARY KEY, numbers TEXT NOT NULL) STRICT;
CREATE TABLE numbers (host TEXT NOT NULL, bucket INTEGER NOT NULL, numbers TEXT NOT NULL, PRIMARY KEY (host, bucket)) STRICT, WITHOUT ROWID;
-- +goose Down
SELECT 1;
