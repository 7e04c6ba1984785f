-- +goose Up
-- When the value of a secret ends.
ALTER TABLE secrets ADD COLUMN expires_at TEXT NOT NULL DEFAULT '';
