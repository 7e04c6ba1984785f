-- +goose Up
-- The sums of a host at the end of the newest steps in series, so that what is counted from then on is neither lost nor
-- counted twice when the service is killed. since is when its agent began to count, in Unix nanoseconds; 0 in rows that
-- were written before it was kept here.
ALTER TABLE latest_numbers ADD COLUMN since INTEGER NOT NULL DEFAULT 0;
-- +goose Down
SELECT 1;
