-- name: IncidentsOfSubjects :many
-- Those of some subjects that are open, or ended since an instant.
SELECT * FROM incident WHERE about = @about AND subject = ANY(@subjects::text[])
  AND (resolved_at IS NULL OR ended_at IS NULL OR ended_at >= @since) ORDER BY id FOR UPDATE;

-- name: OpenIncidents :many
-- All that are open, and what they follow.
SELECT * FROM incident WHERE resolved_at IS NULL
UNION
SELECT c.* FROM incident i JOIN incident c ON c.id = i.cause WHERE i.resolved_at IS NULL;

-- name: OpenIncidentsAbout :many
SELECT * FROM incident WHERE resolved_at IS NULL AND about = $1 ORDER BY id;

-- name: AddIncident :one
INSERT INTO incident (about, subject, began_at, known_at, latest_at, times, state, worst, ended_at, severity, resolved_at, planned, planned_until, because)
VALUES (@about, @subject, @began_at, @known_at, @latest_at, @times, @state, @worst, @ended_at, @severity, @resolved_at, @planned, @planned_until, @because)
RETURNING id;

-- name: PutIncident :exec
UPDATE incident SET began_at = @began_at, latest_at = @latest_at, times = @times, state = @state, worst = @worst, ended_at = @ended_at, severity = @severity,
    severity_by = @severity_by, ack_by = @ack_by, ack_at = @ack_at, ack_until = @ack_until, assignee = @assignee, resolved_at = @resolved_at,
    resolved_by = @resolved_by, unfounded = @unfounded, review = @review, cause = @cause, cause_by = @cause_by
WHERE id = @id;

-- name: PutCause :execrows
-- Under another cause, or none (null), where no person decided on that.
UPDATE incident SET cause = sqlc.narg(cause) WHERE id = @id AND (cause_by = '' OR sqlc.narg(cause)::bigint IS NOT NULL);

-- name: FindIncidentBy :exec
-- More words that an incident is found by.
INSERT INTO incident_words AS w (incident, words) VALUES (@id, to_tsvector('simple', @words::text))
ON CONFLICT (incident) DO UPDATE SET words = w.words || excluded.words WHERE length(w.words) < 200000;

-- name: IncidentForUpdate :one
SELECT * FROM incident WHERE id = $1 FOR UPDATE;

-- name: Incident :one
SELECT * FROM incident WHERE id = $1;

-- name: Incidents :many
SELECT * FROM incident WHERE id = ANY(@ids::bigint[]) ORDER BY id;

-- name: Followers :many
SELECT * FROM incident WHERE cause = ANY(@causes::bigint[]) ORDER BY began_at, id;

-- name: PutFollowers :many
-- What stood under one incident stands under another.
UPDATE incident SET cause = @cause WHERE cause = @was::bigint RETURNING id;

-- name: AddIncidentEvents :copyfrom
INSERT INTO incident_event (incident, kind, at, written_at, person, text, public, other, until_at, cause)
VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10);

-- name: IncidentEvents :many
SELECT e.*, CASE WHEN e.person = '' THEN '' ELSE coalesce(person_called(e.person), '') END::text AS called,
    CASE WHEN e.kind = 'assigned' AND e.other <> '' THEN coalesce(person_called(e.other), '') ELSE '' END::text AS other_called
FROM incident_event e WHERE e.incident = ANY(@incidents::bigint[]) ORDER BY e.at, e.id;

-- name: IncidentList :many
-- Incidents, the latest first, from one on: open first would move them between pages. A
-- null argument does not narrow.
SELECT * FROM incident
WHERE (sqlc.narg(open)::boolean IS NULL OR (resolved_at IS NULL) = sqlc.narg(open))
  AND (sqlc.narg(reviewed)::boolean IS NULL OR (review IS NOT NULL) = sqlc.narg(reviewed))
  AND (sqlc.narg(root)::boolean IS NULL OR (cause IS NULL) = sqlc.narg(root))
  AND (sqlc.narg(about)::text IS NULL OR about = sqlc.narg(about))
  AND (sqlc.narg(subjects)::text[] IS NULL OR subject = ANY(sqlc.narg(subjects)::text[]))
  AND (sqlc.narg(severity)::text IS NULL OR severity = sqlc.narg(severity))
  AND (sqlc.narg(assignee)::text IS NULL OR assignee = sqlc.narg(assignee))
  AND (sqlc.narg(class)::text IS NULL OR review ->> 'class' = sqlc.narg(class))
  AND (sqlc.narg(words)::text IS NULL OR id IN (SELECT w.incident FROM incident_words w WHERE w.words @@ to_tsquery('simple', sqlc.narg(words))))
  AND (sqlc.narg(from_at)::timestamptz IS NULL OR coalesce(ended_at, 'infinity') >= sqlc.narg(from_at))
  AND (sqlc.narg(to_at)::timestamptz IS NULL OR began_at < sqlc.narg(to_at))
  AND (sqlc.narg(before_at)::timestamptz IS NULL OR (began_at, id) < (sqlc.narg(before_at), sqlc.narg(before_id)::bigint))
ORDER BY began_at DESC, id DESC LIMIT @most;

-- name: CountOpenIncidents :one
SELECT count(*) FROM incident WHERE resolved_at IS NULL AND cause IS NULL;

-- name: IncidentsLike :many
-- What was the matter before with the same, or under the same cause, and what shows the same
-- in its evidence: those first that are of the same, then the latest.
SELECT * FROM incident i
WHERE i.id <> @id AND i.began_at < @began_at AND NOT i.unfounded AND i.cause IS NULL AND i.resolved_at IS NOT NULL
  AND ((i.about = @about AND i.subject = ANY(@subjects::text[]))
    OR EXISTS (SELECT 1 FROM incident f WHERE f.cause = i.id AND f.about = @about AND f.subject = @subject)
    OR i.marks && @marks::text[])
ORDER BY (i.about = @about AND i.subject = ANY(@subjects::text[])) DESC, i.began_at DESC LIMIT @most;

-- name: MarkIncident :exec
-- Adds marks to an incident, each once, fifty at most.
UPDATE incident SET marks = (SELECT coalesce(array_agg(DISTINCT m ORDER BY m), '{}') FROM unnest(marks || @marks::text[]) AS m)
WHERE id = @id AND cardinality(marks) < 50;

-- name: AddIncidentFile :one
INSERT INTO incident_file (incident, name, type, digest, content, by, at) VALUES ($1, $2, $3, $4, $5, $6, $7)
ON CONFLICT (incident, digest) DO NOTHING RETURNING id;

-- name: IncidentFiles :many
SELECT id, incident, name, type, digest, length(content)::bigint AS size, person_called(by)::text AS by, at FROM incident_file WHERE incident = $1 ORDER BY id;

-- name: IncidentFile :one
SELECT id, name, type, content FROM incident_file WHERE incident = $1 AND id = $2;

-- name: AddEvidence :copyfrom
INSERT INTO trial (location, spec, made_by, incident, moment, label) VALUES ($1, $2, $3, $4, $5, $6);

-- name: Evidence :many
SELECT * FROM trial WHERE incident = $1 ORDER BY made_at, label, location;

-- name: TransitionsBetween :many
-- How some services changed in a time, as it was told, in the order of that.
SELECT id, service, at, from_state, to_state, corrects FROM transition WHERE service = ANY(@services::text[]) AND at >= @from_at AND at < @to_at
ORDER BY id LIMIT @most;

-- name: DefinitionsChangedBetween :many
-- Revisions of some definitions that count from a time on.
SELECT r.kind, r.id, r.number, r.valid_from, coalesce(person_called(r.made_by), '')::text AS by FROM revision r
WHERE r.valid_from >= @from_at AND r.valid_from < @to_at AND ((r.kind = 'service' AND r.id = ANY(@services::text[])) OR (r.kind = 'check' AND r.id = ANY(@checks::text[])))
  AND r.number > 1
ORDER BY r.valid_from LIMIT @most;

-- name: PublicNotes :many
-- What customers may read of incidents of a service, and of those that it followed, since an instant: the latest first.
SELECT e.at, e.text, i.id, i.began_at, i.ended_at, i.worst FROM incident_event e JOIN incident i ON i.id = e.incident
WHERE e.kind = 'note' AND e.public AND e.at >= @since AND NOT i.unfounded AND i.about = 'service'
  AND (i.subject = @service::text OR EXISTS (SELECT 1 FROM incident f WHERE f.cause = i.id AND f.about = 'service' AND f.subject = @service::text))
ORDER BY e.at DESC, e.id DESC LIMIT 50;

-- name: IncidentsBegunBetween :many
-- Of services, that were not unfounded: in the order in which they began.
SELECT * FROM incident WHERE about = 'service' AND began_at BETWEEN @from_at AND @to_at AND NOT unfounded ORDER BY began_at, id LIMIT @most;
