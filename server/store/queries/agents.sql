-- name: AddAgent :one
INSERT INTO agent (location, token_hash, created_by) VALUES ($1, $2, $3) RETURNING *;

-- name: AgentByToken :one
SELECT * FROM agent WHERE token_hash = $1 AND revoked_at IS NULL;

-- name: Agent :one
SELECT * FROM agent WHERE id = $1;

-- name: AgentSeen :execrows
-- What an agent says of itself. No row where another process works with its token.
UPDATE agent SET seen_at = @now::timestamptz, version = @version, clock_offset_ms = @clock_offset_ms, uncertain_ms = @uncertain_ms, backlog = @backlog, lateness_ms = @lateness_ms,
    complaint = @complaint, sockets = @sockets, cut_off = @cut_off, set_aside = @set_aside, aside = @aside, instance = @instance, instance_until = @until,
    lost = @lost, lost_at = sqlc.narg(lost_at), lost_seen = least(lost_seen, @lost)
WHERE id = @id AND (instance = @instance OR instance_until <= @now::timestamptz);

-- name: AgentGone :exec
-- Its process hung up: another one may work with the token from now on.
UPDATE agent SET instance_until = 'epoch' WHERE id = @id AND instance = @instance AND instance_until = @until;

-- name: SeeLost :execrows
-- A person has seen that so many measurements were lost.
UPDATE agent SET lost_seen = greatest(lost_seen, least(lost, @lost::bigint)) WHERE id = @id AND revoked_at IS NULL;

-- name: ReleaseAside :execrows
UPDATE agent SET release_at = @now::timestamptz WHERE id = @id AND revoked_at IS NULL;

-- name: Agents :many
SELECT * FROM agent WHERE revoked_at IS NULL ORDER BY location, created_at;

-- name: RevokeAgent :execrows
UPDATE agent SET revoked_at = clock() WHERE id = $1 AND revoked_at IS NULL;

-- name: AddTrial :one
INSERT INTO trial (location, spec, made_by, digest) VALUES ($1, $2, $3, $4) RETURNING id;

-- name: SameTrial :one
-- One that was asked for a moment ago and is still to be made.
SELECT id FROM trial WHERE digest = $1 AND done_at IS NULL AND made_at > clock() - interval '1 minute' ORDER BY made_at LIMIT 1;

-- name: TakeTrials :many
UPDATE trial SET taken_at = clock() WHERE location = $1 AND taken_at IS NULL AND made_at > clock() - interval '1 minute' RETURNING id, spec;

-- name: TrialOf :one
-- For which incident something was tried, and when.
SELECT incident, moment, spec FROM trial WHERE id = @id AND location = @location;

-- name: FinishTrial :execrows
UPDATE trial SET result = $3, done_at = clock() WHERE id = $1 AND location = $2 AND done_at IS NULL;

-- name: Trials :many
SELECT * FROM trial WHERE id = ANY($1::uuid[]);

-- name: DropOldTrials :exec
DELETE FROM trial WHERE made_at < clock() - interval '1 day' AND incident IS NULL;

-- name: LastRoster :one
SELECT * FROM roster WHERE location = $1 ORDER BY from_at DESC LIMIT 1;

-- name: AddRoster :exec
INSERT INTO roster (location, from_at, agents) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING;

-- name: RostersSince :many
-- The rosters from an instant on, and the one before it, oldest first.
SELECT r.* FROM roster r
WHERE r.location = @location AND r.from_at >= coalesce((SELECT max(b.from_at) FROM roster b WHERE b.location = @location AND b.from_at <= @since), '-infinity')
ORDER BY r.from_at;

-- name: DropOldRosters :exec
DELETE FROM roster r WHERE r.from_at < clock() - interval '60 days'
AND EXISTS (SELECT 1 FROM roster n WHERE n.location = r.location AND n.from_at > r.from_at);

-- name: PutReportIn :exec
INSERT INTO report_in (check_id, token_hash, made_by) VALUES ($1, $2, $3)
ON CONFLICT (check_id) DO UPDATE SET token_hash = excluded.token_hash, made_at = clock(), made_by = excluded.made_by;

-- name: ReportInByToken :one
SELECT check_id FROM report_in WHERE token_hash = $1;

-- name: ReportIns :many
SELECT check_id, made_at, person_called(made_by)::text AS made_by FROM report_in;

-- name: AgentPlaces :many
SELECT id, location FROM agent WHERE id = ANY(sqlc.arg(ids)::uuid[]);
