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
