-- name: PublishedCredits :many
-- What the latest published revision of each agreement and period says is owed.
SELECT DISTINCT ON (agreement, period) id, agreement, period, published_at, credit FROM report WHERE state = 'published'
ORDER BY agreement, period, number DESC;

-- name: CreditEntries :many
SELECT id, agreement, period, kind, minor, currency, happened, reference, note, person_called(made_by)::text AS made_by, made_at,
       coalesce(person_called(taken_back_by), '')::text AS taken_back_by, taken_back_at
FROM credit_entry ORDER BY id;

-- name: LockCredits :exec
SELECT pg_advisory_xact_lock(hashtext('credits'));

-- name: AddCreditEntry :one
INSERT INTO credit_entry (agreement, period, kind, minor, currency, happened, reference, note, made_by, made_at)
VALUES (@agreement, @period, @kind, @minor, @currency, @happened, @reference, @note, @made_by, @made_at) RETURNING id;

-- name: TakeCreditEntryBack :execrows
UPDATE credit_entry SET taken_back_by = @taken_back_by, taken_back_at = @taken_back_at WHERE id = @id AND agreement = @agreement AND taken_back_at IS NULL;
