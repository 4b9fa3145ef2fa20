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

-- name: AddWorkRequest :one
INSERT INTO work_request (work, revision, spec, reason, by, asked_at) VALUES (@work, @revision, @spec, @reason, @by, @asked_at) RETURNING id;

-- name: WorkRequest :one
SELECT r.*, person_called(r.by::text)::text AS asked_by, coalesce(person_called(r.decided_by::text), '')::text AS decider
FROM work_request r WHERE r.id = $1;

-- name: WorkRequests :many
-- The latest first; those that are open, or all.
SELECT r.*, person_called(r.by::text)::text AS asked_by, coalesce(person_called(r.decided_by::text), '')::text AS decider
FROM work_request r WHERE (NOT @open::boolean OR r.state = 'open') AND (sqlc.narg(before)::bigint IS NULL OR r.id < sqlc.narg(before))
ORDER BY r.id DESC LIMIT @most;

-- name: CountOpenWorkRequests :one
SELECT count(*) FROM work_request WHERE state = 'open' AND by = $1;

-- name: DecideWorkRequest :execrows
-- Once: what was decided stays.
UPDATE work_request SET state = @state, decided_by = @decided_by, decided_at = @decided_at, note = @note, work = @work WHERE id = @id AND state = 'open';
