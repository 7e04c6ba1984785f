-- +goose Up
-- Rollouts go in waves, by plans, and a host may be held at what one of them gave it.
ALTER TABLE rollouts ADD COLUMN plan TEXT NOT NULL DEFAULT '{"waves":[{"rest":true}]}';
ALTER TABLE rollouts ADD COLUMN before INTEGER NOT NULL DEFAULT 0;
ALTER TABLE rollouts ADD COLUMN takes_back INTEGER NOT NULL DEFAULT 0;
ALTER TABLE rollouts ADD COLUMN taken_back_by INTEGER NOT NULL DEFAULT 0;
ALTER TABLE rollouts ADD COLUMN chosen TEXT NOT NULL DEFAULT '';
ALTER TABLE rollouts ADD COLUMN phase TEXT NOT NULL DEFAULT 'changing';
ALTER TABLE rollouts ADD COLUMN since TEXT NOT NULL DEFAULT '';
ALTER TABLE rollouts ADD COLUMN until TEXT NOT NULL DEFAULT '';
ALTER TABLE rollouts ADD COLUMN asks TEXT NOT NULL DEFAULT '';
ALTER TABLE rollout_hosts ADD COLUMN told INTEGER NOT NULL DEFAULT 1;
ALTER TABLE rollout_hosts ADD COLUMN patience INTEGER NOT NULL DEFAULT 0;
ALTER TABLE rollout_decisions ADD COLUMN who TEXT NOT NULL DEFAULT '';
ALTER TABLE rollout_decisions ADD COLUMN numbers TEXT NOT NULL DEFAULT '';
-- What a host was like when it was assigned its config, and all that it was assigned before.
ALTER TABLE assignments ADD COLUMN seen TEXT NOT NULL DEFAULT '';
ALTER TABLE assignments ADD COLUMN pinned INTEGER NOT NULL DEFAULT 0;
ALTER TABLE assignments ADD COLUMN who TEXT NOT NULL DEFAULT '';
CREATE TABLE host_history (
  host TEXT NOT NULL, at TEXT NOT NULL, hash TEXT NOT NULL, revision INTEGER NOT NULL, rollout INTEGER NOT NULL,
  who TEXT NOT NULL, seen TEXT NOT NULL, PRIMARY KEY (host, at)
) STRICT, WITHOUT ROWID;
INSERT INTO host_history SELECT a.host, a.assigned_at, a.hash, a.revision, a.rollout, coalesce(r.author, ''), ''
  FROM assignments a LEFT JOIN rollouts r ON r.id = a.rollout WHERE true ON CONFLICT DO NOTHING;
-- +goose Down
SELECT 1;
