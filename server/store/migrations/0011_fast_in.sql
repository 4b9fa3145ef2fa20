-- +goose Up
-- No index on what changes with every measurement: then a changed row takes the place
-- of the old one in its page (HOT), where the page has room, and no index is touched.
DROP INDEX stretch_last;
DROP INDEX lane_stale;
ALTER TABLE lane SET (fillfactor = 50);
ALTER TABLE stretch SET (fillfactor = 85);

-- +goose Down
ALTER TABLE stretch RESET (fillfactor);
ALTER TABLE lane RESET (fillfactor);
CREATE INDEX lane_stale ON lane (stale_at) WHERE NOT stale_noted;
CREATE INDEX stretch_last ON stretch (lane, last_at);
