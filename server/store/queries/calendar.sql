-- name: MakeCalendarFeed :one
INSERT INTO calendar_feed (person, name, token_hash, services, made_at) VALUES ($1, $2, $3, $4, $5) RETURNING id;

-- name: CalendarFeeds :many
SELECT * FROM calendar_feed WHERE person = $1 ORDER BY made_at, id;

-- name: CountCalendarFeeds :one
SELECT count(*) FROM calendar_feed WHERE person = $1;

-- name: CalendarFeedByToken :one
-- One whose person may still sign in and see what is planned.
SELECT f.* FROM calendar_feed f JOIN person p ON p.id = f.person WHERE f.token_hash = $1 AND p.disabled_at IS NULL AND p.role <> 'customer';

-- name: CalendarFeedUsed :exec
UPDATE calendar_feed SET used_at = sqlc.arg(at) WHERE id = sqlc.arg(id) AND (used_at IS NULL OR used_at < sqlc.arg(at)::timestamptz - interval '1 hour');

-- name: DeleteCalendarFeed :execrows
DELETE FROM calendar_feed WHERE id = $1 AND person = $2;
