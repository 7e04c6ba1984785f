-- +goose Up
-- A token's uses are counted as they come, and what is asked for at each join is found by an index.
ALTER TABLE join_tokens ADD COLUMN used INTEGER NOT NULL DEFAULT 0;
UPDATE join_tokens SET used = (SELECT count(DISTINCT uid) FROM credentials c WHERE c.token_id = join_tokens.id AND used_at <> '');
CREATE INDEX credentials_uid ON credentials (uid);
CREATE INDEX credentials_host ON credentials (host);
CREATE INDEX credentials_open ON credentials (token_id, offer_ends) WHERE used_at = '' AND ended_at = '';

-- A rollout is a row, and a row for each of its hosts.
ALTER TABLE rollouts RENAME TO rollout_texts;
CREATE TABLE rollouts (
  id INTEGER PRIMARY KEY, revision INTEGER NOT NULL, author TEXT NOT NULL, status TEXT NOT NULL, wave INTEGER NOT NULL,
  waves INTEGER NOT NULL, started TEXT NOT NULL, ended TEXT NOT NULL
) STRICT;
CREATE TABLE rollout_hosts (
  rollout INTEGER NOT NULL REFERENCES rollouts (id), host TEXT NOT NULL, wave INTEGER NOT NULL, state TEXT NOT NULL, hash TEXT NOT NULL,
  reason TEXT NOT NULL, since TEXT NOT NULL, deadline TEXT NOT NULL, PRIMARY KEY (rollout, host)
) STRICT, WITHOUT ROWID;
CREATE TABLE rollout_decisions (
  rollout INTEGER NOT NULL REFERENCES rollouts (id), n INTEGER NOT NULL, at TEXT NOT NULL, what TEXT NOT NULL, why TEXT NOT NULL,
  PRIMARY KEY (rollout, n)
) STRICT, WITHOUT ROWID;
INSERT INTO rollouts SELECT id, revision, author, json_extract(state, '$.status'), json_extract(state, '$.wave'),
  max(1, json_array_length(state, '$.waves')), json_extract(state, '$.started'), replace(json_extract(state, '$.ended'), '0001-01-01T00:00:00Z', '') FROM rollout_texts;
INSERT INTO rollout_hosts SELECT r.id, h.key,
  coalesce((SELECT w.key FROM json_each(r.state, '$.waves') w WHERE EXISTS (SELECT 1 FROM json_each(w.value) n WHERE n.value = h.key)), 0),
  json_extract(h.value, '$.state'), json_extract(h.value, '$.hash'), coalesce(json_extract(h.value, '$.reason'), ''), json_extract(h.value, '$.since'),
  replace(json_extract(h.value, '$.deadline'), '0001-01-01T00:00:00Z', '') FROM rollout_texts r, json_each(r.state, '$.hosts') h WHERE h.key IS NOT NULL;
INSERT INTO rollout_decisions SELECT r.id, d.key, json_extract(d.value, '$.at'), json_extract(d.value, '$.what'), json_extract(d.value, '$.why')
  FROM rollout_texts r, json_each(r.state, '$.decisions') d WHERE d.key IS NOT NULL;
DROP TABLE rollout_texts;
-- +goose Down
SELECT 1;
