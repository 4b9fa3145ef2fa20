-- name: EnsureLanes :exec
INSERT INTO lane (check_id, location)
SELECT unnest($1::text[]), unnest($2::text[])
ON CONFLICT (check_id, location) DO NOTHING;

-- name: LanesForUpdate :many
SELECT * FROM lane WHERE location = $1 AND check_id = ANY($2::text[]) ORDER BY id FOR UPDATE;

-- name: Lanes :many
SELECT * FROM lane;

-- name: LanesOfChecks :many
SELECT * FROM lane WHERE check_id = ANY($1::text[]) ORDER BY id;

-- name: SaveLane :exec
UPDATE lane SET machine = $2, stale_at = $3, stale_noted = $4 WHERE id = $1;

-- name: NoteStaleLanes :many
UPDATE lane SET stale_noted = true WHERE NOT stale_noted AND stale_at < now() RETURNING check_id;

-- name: InsertMeasurements :many
WITH taken AS (
    INSERT INTO measurement (lane, at, outcome, measures, late_ms, delay_s, detail)
    SELECT u.lane, u.at, u.outcome,
           coalesce((@values::real[])[u.start + 1 : u.start + u.length], '{}'), u.late_ms, u.delay_s, nullif(u.detail, '')
    FROM (SELECT unnest(@lanes::int[]) AS lane, unnest(@ats::timestamptz[]) AS at, unnest(@outcomes::smallint[]) AS outcome,
                 unnest(@starts::int[]) AS start, unnest(@lengths::int[]) AS length,
                 unnest(@lates::int[]) AS late_ms, unnest(@delays::int[]) AS delay_s, unnest(@details::text[]) AS detail) u
    ON CONFLICT DO NOTHING
    RETURNING lane, at
)
SELECT lane, at FROM taken;

-- name: MeasurementsOf :many
SELECT at, outcome, measures, late_ms, delay_s, detail FROM measurement
WHERE lane = $1 AND at >= $2 AND at < $3 ORDER BY at;

-- name: LatestMeasurements :many
SELECT at, outcome, measures, late_ms, delay_s, detail FROM measurement
WHERE lane = $1 AND at >= $2 AND at <= $3 ORDER BY at DESC LIMIT $4;

-- name: OutcomesFrom :many
SELECT at, outcome FROM measurement WHERE lane = $1 AND at >= $2 AND outcome <> 0 ORDER BY at;

-- name: RawBefore :one
SELECT coalesce(max(at), 'epoch')::timestamptz AS at FROM measurement
WHERE lane = $1 AND at >= @since AND at < @before AND outcome <> 0;

-- name: InstantsBetween :many
SELECT at FROM measurement WHERE lane = $1 AND at >= @since AND at <= @until AND outcome <> 0;

-- name: HasRaw :one
SELECT EXISTS (SELECT 1 FROM measurement WHERE lane = $1 AND at = $2);

-- name: Stretches :many
SELECT lane, first_at, last_at, state, own, count FROM stretch
WHERE lane = ANY(@lanes::int[]) AND last_at >= @since AND first_at < @before ORDER BY lane, first_at;

-- name: StretchesBefore :many
-- The last stretches that begin at or before an instant, newest first.
SELECT lane, first_at, last_at, state, own, count FROM stretch
WHERE lane = $1 AND first_at <= $2 ORDER BY first_at DESC LIMIT $3;

-- name: LastStretch :one
SELECT lane, first_at, last_at, state, own, count FROM stretch WHERE lane = $1 ORDER BY first_at DESC LIMIT 1;

-- name: PutStretch :batchexec
INSERT INTO stretch (lane, first_at, last_at, state, own, count) VALUES ($1, $2, $3, $4, $5, $6)
ON CONFLICT (lane, first_at) DO UPDATE SET last_at = excluded.last_at, state = excluded.state, own = excluded.own, count = excluded.count;

-- name: DropStretchesFrom :exec
DELETE FROM stretch WHERE lane = $1 AND first_at >= $2;

-- name: CopyStretches :copyfrom
INSERT INTO stretch (lane, first_at, last_at, state, own, count) VALUES ($1, $2, $3, $4, $5, $6);

-- name: CopyHours :copyfrom
INSERT INTO hour (lane, hour_at, count, degraded, failed, error, low, mean, high, sketch) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10);

-- name: MarkHoursDue :exec
INSERT INTO hour_due (lane, hour_at) SELECT unnest($1::int[]), unnest($2::timestamptz[]) ON CONFLICT DO NOTHING;

-- name: TakeHoursDue :many
DELETE FROM hour_due WHERE (lane, hour_at) IN (SELECT h.lane, h.hour_at FROM hour_due h LIMIT $1 FOR UPDATE SKIP LOCKED) RETURNING lane, hour_at;

-- name: PutHour :exec
INSERT INTO hour (lane, hour_at, count, degraded, failed, error, low, mean, high, sketch) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)
ON CONFLICT (lane, hour_at) DO UPDATE SET count = excluded.count, degraded = excluded.degraded, failed = excluded.failed, error = excluded.error,
    low = excluded.low, mean = excluded.mean, high = excluded.high, sketch = excluded.sketch;

-- name: Hours :many
SELECT * FROM hour WHERE lane = ANY($1::int[]) AND hour_at >= $2 AND hour_at < $3 ORDER BY lane, hour_at;

-- name: PutState :exec
INSERT INTO standing_state (service, state, since_at, judged_at, waiting, never_good) VALUES ($1, $2, $3, $4, $5, $6)
ON CONFLICT (service) DO UPDATE SET state = excluded.state, since_at = excluded.since_at, judged_at = excluded.judged_at, waiting = excluded.waiting, never_good = excluded.never_good
WHERE standing_state.judged_at <= excluded.judged_at;

-- name: EverGood :one
-- Whether any of the checks was ever up or degraded anywhere.
SELECT EXISTS (SELECT 1 FROM stretch s JOIN lane l ON l.id = s.lane WHERE l.check_id = ANY($1::text[]) AND s.state IN (1, 2));

-- name: States :many
SELECT * FROM standing_state;

-- name: FirstStretch :one
SELECT first_at FROM stretch WHERE lane = $1 ORDER BY first_at LIMIT 1;

-- name: PutFindings :exec
INSERT INTO findings (lane, at, body)
SELECT unnest(@lanes::int[]), unnest(@ats::timestamptz[]), unnest(@bodies::text[])::jsonb
ON CONFLICT DO NOTHING;

-- name: FindingsAt :one
SELECT body FROM findings WHERE lane = $1 AND at = $2;

-- name: FindingsBetween :many
SELECT at, body FROM findings WHERE lane = $1 AND at >= @since AND at < @before ORDER BY at DESC LIMIT @most;
