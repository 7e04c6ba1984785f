-- +goose Up
ALTER TABLE hosts ADD COLUMN retired_at TEXT NOT NULL DEFAULT '';
-- +goose Down
SELECT 1;
