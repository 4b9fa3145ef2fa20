-- name: CloseAnswers :many
SELECT agreement, period, key, cause, text, by::text AS person, person_called(by::text)::text AS name, at FROM close_answer
WHERE agreement = ANY(@agreements::text[]) AND period = ANY(@periods::text[]) ORDER BY agreement, period, key;

-- name: AnswerClose :execrows
-- Unless somebody else answered since what was shown to who answers now.
INSERT INTO close_answer AS had (agreement, period, key, cause, text, by, at) VALUES ($1, $2, $3, $4, $5, $6, $7)
ON CONFLICT (agreement, period, key) DO UPDATE SET cause = excluded.cause, text = excluded.text, by = excluded.by, at = excluded.at
WHERE had.at = sqlc.narg(seen)::timestamptz;

-- name: TakeBackAnswer :execrows
DELETE FROM close_answer WHERE agreement = $1 AND period = $2 AND key = $3 AND at = @seen::timestamptz;

-- name: IncidentsOver :many
-- Incidents of services that overlap a time, with what their review, or that of the one they follow from, says.
SELECT i.id, i.subject, i.began_at, coalesce(i.ended_at, i.resolved_at) AS ended_at, i.review, c.review AS cause_review
FROM incident i LEFT JOIN incident c ON c.id = i.cause
WHERE i.about = 'service' AND i.subject = ANY(@services::text[]) AND NOT i.unfounded
  AND i.began_at < @until_at::timestamptz AND coalesce(i.ended_at, i.resolved_at, 'infinity') > @from_at::timestamptz
ORDER BY i.began_at, i.id;

-- name: FreezePeriod :one
INSERT INTO frozen_period (agreement, period, frozen_at, frozen_by, content, inputs, measurements) VALUES ($1, $2, $3, $4, $5, $6, $7) RETURNING id;

-- name: Frozen :one
SELECT id, frozen_at, person_called(frozen_by::text)::text AS name, content, inputs, measurements FROM frozen_period
WHERE agreement = $1 AND period = $2 AND unfrozen_at IS NULL;

-- name: FrozenAmong :many
SELECT agreement, period, frozen_at, person_called(frozen_by::text)::text AS name FROM frozen_period
WHERE agreement = ANY(@agreements::text[]) AND period = ANY(@periods::text[]) AND unfrozen_at IS NULL;

-- name: FrozenKept :many
-- What stands frozen of each of some periods, without its content.
SELECT f.id, f.agreement, f.period, f.frozen_at FROM (SELECT unnest(@agreements::text[]) AS agreement, unnest(@periods::text[]) AS period) u
JOIN frozen_period f ON f.agreement = u.agreement AND f.period = u.period WHERE f.unfrozen_at IS NULL;

-- name: FrozenAccounts :many
SELECT id, (content -> 'account')::jsonb AS account FROM frozen_period WHERE id = ANY(@ids::bigint[]);

-- name: PublishedKept :many
-- The latest published report of each of some periods, without its content.
SELECT DISTINCT ON (r.agreement, r.period) r.id, r.agreement, r.period, r.number, r.published_at
FROM (SELECT unnest(@agreements::text[]) AS agreement, unnest(@periods::text[]) AS period) u
JOIN report r ON r.agreement = u.agreement AND r.period = u.period WHERE r.state = 'published' ORDER BY r.agreement, r.period, r.number DESC;

-- name: PublishedAccounts :many
SELECT id, (content -> 'account')::jsonb AS account FROM report WHERE id = ANY(@ids::uuid[]);

-- name: FrozenPeriods :many
-- Names of the periods of an agreement that are frozen now.
SELECT period FROM frozen_period WHERE agreement = $1 AND unfrozen_at IS NULL;

-- name: Unfreeze :execrows
UPDATE frozen_period SET unfrozen_at = $3, unfrozen_by = $4, reason = $5 WHERE agreement = $1 AND period = $2 AND unfrozen_at IS NULL;

-- name: Unfrozen :many
SELECT frozen_at, person_called(frozen_by::text)::text AS name, unfrozen_at, person_called(unfrozen_by::text)::text AS unfrozen_name, reason FROM frozen_period
WHERE agreement = $1 AND period = $2 AND unfrozen_at IS NOT NULL ORDER BY id DESC LIMIT 20;

-- name: ReportsAmong :many
-- The latest published report of each of some periods.
SELECT DISTINCT ON (agreement, period) id, agreement, period, number, published_at FROM report
WHERE state = 'published' AND agreement = ANY(@agreements::text[]) AND period = ANY(@periods::text[]) ORDER BY agreement, period, number DESC;

-- name: PutDoubt :exec
INSERT INTO doubt (lane, hour_at, late, unsure, worst_ms) VALUES ($1, $2, $3, $4, $5)
ON CONFLICT (lane, hour_at) DO UPDATE SET late = excluded.late, unsure = excluded.unsure, worst_ms = excluded.worst_ms;

-- name: DropDoubt :exec
DELETE FROM doubt WHERE lane = $1 AND hour_at = $2;

-- name: DoubtsOf :many
-- What of the measurements of some checks came late or is unsure in a time, by check and location.
SELECT l.check_id, l.location, min(d.hour_at)::timestamptz AS first_at, max(d.hour_at)::timestamptz AS last_at, sum(d.late)::bigint AS late, sum(d.unsure)::bigint AS unsure,
       max(d.worst_ms)::int AS worst_ms
FROM doubt d JOIN lane l ON l.id = d.lane WHERE l.check_id = ANY(@checks::text[]) AND d.hour_at >= @from_at::timestamptz AND d.hour_at < @until_at::timestamptz
GROUP BY l.check_id, l.location;

-- name: CloseOwners :many
SELECT o.agreement, o.period, o.person, person_called(o.person::text)::text AS name, o.set_at FROM close_owner o
JOIN (SELECT unnest(@agreements::text[]) AS agreement, unnest(@periods::text[]) AS period) u ON u.agreement = o.agreement AND u.period = o.period;

-- name: SetCloseOwner :exec
INSERT INTO close_owner (agreement, period, person, set_by, set_at) VALUES ($1, $2, $3, $4, $5)
ON CONFLICT (agreement, period) DO UPDATE SET person = excluded.person, set_by = excluded.set_by, set_at = excluded.set_at;

-- name: DropCloseOwner :execrows
DELETE FROM close_owner WHERE agreement = $1 AND period = $2;

-- name: VisitClose :exec
INSERT INTO close_visit (agreement, period, person, seen_at) VALUES ($1, $2, $3, $4)
ON CONFLICT (agreement, period, person) DO UPDATE SET seen_at = excluded.seen_at;

-- name: ForgetVisits :exec
-- Those of a person that are long over: there are no more rows than somebody can make in that time.
DELETE FROM close_visit WHERE person = $1 AND seen_at < @before::timestamptz;

-- name: CloseVisitors :many
SELECT person, person_called(person::text)::text AS name, seen_at FROM close_visit WHERE agreement = $1 AND period = $2 AND seen_at > @since::timestamptz ORDER BY name;

-- name: AddCloseFile :exec
INSERT INTO close_file (agreement, period, key, name, type, digest, content, made_by, made_at) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9) ON CONFLICT DO NOTHING;

-- name: CloseFiles :many
SELECT id, key, name, type, length(content)::int AS bytes, person_called(made_by)::text AS made_by, made_at FROM close_file WHERE agreement = $1 AND period = $2 ORDER BY id;

-- name: CloseFile :one
SELECT name, type, content FROM close_file WHERE agreement = $1 AND period = $2 AND id = $3;

-- name: DropCloseFile :execrows
DELETE FROM close_file WHERE agreement = $1 AND period = $2 AND id = $3;
