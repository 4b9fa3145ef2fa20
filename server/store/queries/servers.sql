-- name: ClockTime :one
-- What the clock shows by which everything is placed: clock(), which a schema that is yet
-- to be migrated lacks.
SELECT (clock_timestamp() + coalesce(nullif(current_setting('kestite.clock_moved', true), ''), '0')::interval)::timestamptz AS at;

-- name: Attend :one
-- Some server is there. It returns since when some server has been without a pause.
INSERT INTO attendance AS a (since_at, last_at, judged_at, worked_at) VALUES (sqlc.arg(now), sqlc.arg(now), sqlc.arg(now), sqlc.arg(now))
ON CONFLICT (only_row) DO UPDATE SET
    since_at = CASE WHEN sqlc.arg(now) - a.last_at > make_interval(secs => sqlc.arg(pause_s)::double precision) THEN sqlc.arg(now) ELSE a.since_at END,
    last_at = greatest(a.last_at, sqlc.arg(now))
RETURNING since_at;

-- name: Attendance :one
SELECT * FROM attendance;

-- name: Judged :exec
UPDATE attendance SET judged_at = sqlc.arg(now) WHERE judged_at < sqlc.arg(now);

-- name: Worked :exec
UPDATE attendance SET worked_at = sqlc.arg(now) WHERE worked_at < sqlc.arg(now);
