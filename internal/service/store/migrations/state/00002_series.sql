-- +goose Up
-- Numbers over time, packed. What was counted before in another form was kept for an hour's comparison only.
DROP TABLE numbers;
-- tier is the length of a step in seconds: 30, 300 or 3600. start is Unix seconds. host may be a name of a sum, which no
-- host has.
CREATE TABLE series (tier INTEGER NOT NULL, start INTEGER NOT NULL, host TEXT NOT NULL, block BLOB NOT NULL, PRIMARY KEY (host, tier, start)) STRICT, WITHOUT ROWID;
CREATE INDEX series_time ON series (tier, start);
-- state changes of hosts and of their sources
CREATE TABLE turns (at INTEGER NOT NULL, host TEXT NOT NULL, source TEXT NOT NULL, turn TEXT NOT NULL) STRICT;
CREATE INDEX turns_host ON turns (host, at);
CREATE INDEX turns_time ON turns (at);
-- +goose Down
SELECT 1;
