-- name: AddDefinition :exec
INSERT INTO definition (kind, id, created_at) VALUES ($1, $2, $3);

-- name: RetireDefinition :exec
UPDATE definition SET retired_at = $3 WHERE kind = $1 AND id = $2;

-- name: AddRevision :exec
INSERT INTO revision (kind, id, number, valid_from, body, made_by, reason, counts_from) VALUES ($1, $2, $3, $4, $5, $6, $7, $8);

-- name: CloseRevision :one
UPDATE revision SET valid_until = $4 WHERE kind = $1 AND id = $2 AND number = $3 AND valid_until IS NULL RETURNING body;

-- name: Revisions :many
SELECT number, valid_from, valid_until, counts_from, body, reason, person_called(made_by)::text AS maker
FROM revision WHERE kind = $1 AND id = $2 ORDER BY number DESC;

-- name: AllRevisions :many
SELECT r.*, d.retired_at FROM revision r JOIN definition d USING (kind, id) ORDER BY r.kind, r.id, r.number;

-- name: RevisionsSince :many
-- Those of definitions that changed since a mark.
SELECT r.*, d.retired_at FROM definition d JOIN revision r USING (kind, id) WHERE d.mark > $1 ORDER BY r.kind, r.id, r.number;

-- name: DefinitionMark :one
SELECT number, whole FROM definition_mark;

-- name: PutSecret :exec
INSERT INTO secret (credential, sealed, changed_by) VALUES ($1, $2, $3)
ON CONFLICT (credential) DO UPDATE SET sealed = excluded.sealed, changed_at = clock(), changed_by = excluded.changed_by;

-- name: Secrets :many
SELECT credential, sealed, changed_at, person_called(changed_by)::text AS changed_by FROM secret;

-- name: LockDefinitions :exec
-- One change of definitions at a time, whichever server makes it; lifted at the
-- end of the transaction.
SELECT pg_advisory_xact_lock(hashtext('kestite definitions'));

-- name: ChangeMade :one
SELECT digest, ids FROM change_made WHERE person = sqlc.arg(person)::uuid AND key = sqlc.arg(key);

-- name: RememberChange :exec
INSERT INTO change_made (person, key, digest, ids) VALUES (sqlc.arg(person)::uuid, sqlc.arg(key), sqlc.arg(digest), sqlc.arg(ids));

-- name: DropOldChanges :exec
DELETE FROM change_made WHERE made_at < sqlc.arg(before);

-- name: PersonCalled :one
SELECT person_called(sqlc.arg(who))::text;
