-- +goose Up
-- alerts of each notice, as JSON; spoken is when it told something last, in Unix milliseconds
CREATE TABLE notices (name TEXT PRIMARY KEY, spoken INTEGER NOT NULL, alerts TEXT NOT NULL) STRICT;
-- messages on their way, and those that went; times in Unix milliseconds, 0 for not yet
CREATE TABLE messages (id INTEGER PRIMARY KEY, notice TEXT NOT NULL, way INTEGER NOT NULL, to_whom TEXT NOT NULL, message TEXT NOT NULL, made INTEGER NOT NULL, tries INTEGER NOT NULL, next INTEGER NOT NULL, done INTEGER NOT NULL, error TEXT NOT NULL) STRICT;
CREATE INDEX messages_next ON messages (done, next);
-- hosts of which nothing is told until a time
CREATE TABLE maintenance (id INTEGER PRIMARY KEY AUTOINCREMENT, hosts TEXT NOT NULL, began INTEGER NOT NULL, until INTEGER NOT NULL, who TEXT NOT NULL, word TEXT NOT NULL) STRICT;
-- +goose Down
SELECT 1;
