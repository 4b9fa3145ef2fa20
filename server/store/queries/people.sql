-- name: Organisation :one
SELECT * FROM organisation;

-- name: MakeOrganisation :exec
INSERT INTO organisation (name, timezone, first_token) VALUES ($1, $2, $3)
ON CONFLICT (only_row) DO NOTHING;

-- name: SetFirstToken :exec
UPDATE organisation SET first_token = $1;

-- name: UseFirstToken :execrows
UPDATE organisation SET first_token = NULL WHERE first_token = $1;

-- name: CountPeople :one
SELECT count(*) FROM person;

-- name: People :many
SELECT id, email, name, role, created_at, disabled_at FROM person ORDER BY lower(name);

-- name: Person :one
SELECT * FROM person WHERE id = $1;

-- name: PersonByEmail :one
SELECT * FROM person WHERE lower(email) = lower($1);

-- name: AddPerson :one
INSERT INTO person (email, name, role, password_hash) VALUES ($1, $2, $3, $4) RETURNING *;

-- name: ChangePerson :execrows
UPDATE person SET name = $2, role = $3, disabled_at = $4 WHERE id = $1;

-- name: CountAdministrators :one
SELECT count(*) FROM person WHERE role = 'administrator' AND disabled_at IS NULL;

-- name: AddAudit :exec
INSERT INTO audit (person, action, subject, detail) VALUES ($1, $2, $3, $4);

-- name: AuditTrail :many
SELECT * FROM audit ORDER BY id DESC LIMIT $1;
