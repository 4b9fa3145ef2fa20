-- name: AddDefinition :exec
INSERT INTO definition (kind, id, created_at) VALUES ($1, $2, $3);

-- name: DefinitionForUpdate :one
SELECT * FROM definition WHERE kind = $1 AND id = $2 FOR UPDATE;

-- name: RetireDefinition :exec
UPDATE definition SET retired_at = $3 WHERE kind = $1 AND id = $2;

-- name: AddRevision :exec
INSERT INTO revision (kind, id, number, valid_from, valid_until, body, made_by, reason) VALUES ($1, $2, $3, $4, $5, $6, $7, $8);

-- name: OpenRevision :one
SELECT * FROM revision WHERE kind = $1 AND id = $2 AND valid_until IS NULL;

-- name: LastRevision :one
SELECT * FROM revision WHERE kind = $1 AND id = $2 ORDER BY number DESC LIMIT 1;

-- name: CloseRevision :exec
UPDATE revision SET valid_until = $4 WHERE kind = $1 AND id = $2 AND number = $3;

-- name: RewriteRevision :exec
UPDATE revision SET body = $4, made_by = $5, reason = $6, made_at = now() WHERE kind = $1 AND id = $2 AND number = $3;

-- name: Revisions :many
SELECT * FROM revision WHERE kind = $1 AND id = $2 ORDER BY number DESC;

-- name: AllRevisions :many
SELECT r.*, d.retired_at FROM revision r JOIN definition d USING (kind, id) ORDER BY r.kind, r.id, r.number;

-- name: DefinitionMark :one
SELECT number FROM definition_mark;

-- name: PutSecret :exec
INSERT INTO secret (credential, sealed, changed_by) VALUES ($1, $2, $3)
ON CONFLICT (credential) DO UPDATE SET sealed = excluded.sealed, changed_at = now(), changed_by = excluded.changed_by;

-- name: Secrets :many
SELECT * FROM secret;

-- name: LockDefinitions :exec
-- One change of definitions at a time, whichever server makes it; lifted at the
-- end of the transaction.
SELECT pg_advisory_xact_lock(hashtext('kestite definitions'));
