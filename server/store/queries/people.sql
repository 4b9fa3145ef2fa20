-- name: Organisation :one
SELECT * FROM organisation;

-- name: MakeOrganisation :exec
-- The options of the server say what it is called, until a person does.
INSERT INTO organisation AS o (name, timezone) VALUES (coalesce(nullif(sqlc.arg(name)::text, ''), 'My organisation'), coalesce(nullif(sqlc.arg(timezone)::text, ''), 'UTC'))
ON CONFLICT (only_row) DO UPDATE SET name = coalesce(nullif(sqlc.arg(name)::text, ''), o.name), timezone = coalesce(nullif(sqlc.arg(timezone)::text, ''), o.timezone)
WHERE o.named_at IS NULL AND (sqlc.arg(name)::text <> '' OR sqlc.arg(timezone)::text <> '');

-- name: NameOrganisation :exec
UPDATE organisation SET name = $1, timezone = $2, named_at = now();

-- name: AddFirstToken :exec
-- Each start of a server without people makes one; the latest few are good.
WITH old AS (DELETE FROM first_token WHERE hash IN (SELECT hash FROM first_token ORDER BY made_at DESC OFFSET 20))
INSERT INTO first_token (hash) VALUES ($1);

-- name: UseFirstToken :execrows
-- All go with the first that is used.
DELETE FROM first_token WHERE EXISTS (SELECT 1 FROM first_token known WHERE known.hash = $1);

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

-- name: Spend :one
-- Takes one of what somebody is allowed, if there is one: at most so many at
-- once, coming back at so many a second.
INSERT INTO attempts AS a (who, left_over, allowed, at) VALUES (sqlc.arg(who), sqlc.arg(most)::double precision - 1, true, sqlc.arg(now))
ON CONFLICT (who) DO UPDATE SET
    allowed   = least(sqlc.arg(most), a.left_over + extract(epoch FROM sqlc.arg(now) - a.at) * sqlc.arg(per_second)::double precision) >= 1,
    left_over = least(sqlc.arg(most), a.left_over + extract(epoch FROM sqlc.arg(now) - a.at) * sqlc.arg(per_second)::double precision)
              - CASE WHEN least(sqlc.arg(most), a.left_over + extract(epoch FROM sqlc.arg(now) - a.at) * sqlc.arg(per_second)::double precision) >= 1 THEN 1 ELSE 0 END,
    at        = greatest(sqlc.arg(now), a.at)
RETURNING allowed;

-- name: DropAttempts :exec
DELETE FROM attempts WHERE at < now() - interval '1 day';
