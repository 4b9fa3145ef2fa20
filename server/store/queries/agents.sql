-- name: AddAgent :one
INSERT INTO agent (location, token_hash, created_by) VALUES ($1, $2, $3) RETURNING *;

-- name: AgentByToken :one
SELECT * FROM agent WHERE token_hash = $1 AND revoked_at IS NULL;

-- name: AgentSeen :exec
UPDATE agent SET seen_at = now(), version = $2, clock_offset_ms = $3, backlog = $4, lateness_ms = $5, complaint = $6 WHERE id = $1;

-- name: Agents :many
SELECT * FROM agent WHERE revoked_at IS NULL ORDER BY location, created_at;

-- name: RevokeAgent :execrows
UPDATE agent SET revoked_at = now() WHERE id = $1 AND revoked_at IS NULL;

-- name: AddTrial :one
INSERT INTO trial (location, spec, made_by) VALUES ($1, $2, $3) RETURNING id;

-- name: TakeTrials :many
UPDATE trial SET taken_at = now() WHERE location = $1 AND taken_at IS NULL AND made_at > now() - interval '1 minute' RETURNING id, spec;

-- name: FinishTrial :execrows
UPDATE trial SET result = $3, done_at = now() WHERE id = $1 AND location = $2 AND done_at IS NULL;

-- name: Trials :many
SELECT * FROM trial WHERE id = ANY($1::uuid[]);

-- name: DropOldTrials :exec
DELETE FROM trial WHERE made_at < now() - interval '1 day';
