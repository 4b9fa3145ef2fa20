-- name: SigningKeys :many
SELECT id, public, sealed, made_at, person_called(made_by)::text AS made_by, retired_at FROM signing_key ORDER BY made_at, id;

-- name: AddSigningKey :exec
INSERT INTO signing_key (id, public, sealed, made_at, made_by) VALUES ($1, $2, $3, $4, $5);

-- name: RetireSigningKey :execrows
UPDATE signing_key SET retired_at = $2 WHERE id = $1 AND retired_at IS NULL;

-- name: KeepBlob :exec
INSERT INTO blob (digest, content) VALUES ($1, $2) ON CONFLICT DO NOTHING;

-- name: Blob :one
SELECT content FROM blob WHERE digest = $1;

-- name: AddReportFile :exec
INSERT INTO report_file (report, name, digest) VALUES ($1, $2, $3);

-- name: ReportFiles :many
SELECT f.name, f.digest, b.content FROM report_file f JOIN blob b USING (digest) WHERE f.report = $1 ORDER BY f.name;

-- name: LastOfChain :one
SELECT serial, manifest FROM report WHERE chain = $1::text ORDER BY serial DESC LIMIT 1;

-- name: LastOfLedger :one
SELECT ledger, entry FROM report WHERE ledger IS NOT NULL ORDER BY ledger DESC LIMIT 1;

-- name: ReportFile :one
SELECT b.content FROM report_file f JOIN blob b USING (digest) WHERE f.report = $1 AND f.name = $2;
