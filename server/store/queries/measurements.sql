-- name: EnsureLanes :exec
INSERT INTO lane (check_id, location)
SELECT unnest($1::text[]), unnest($2::text[])
ON CONFLICT (check_id, location) DO NOTHING;

-- name: LanesForUpdate :many
SELECT * FROM lane WHERE location = $1 AND check_id = ANY($2::text[]) ORDER BY id FOR UPDATE;

-- name: KnownLanesForUpdate :many
-- The same by id, which takes half the time.
SELECT * FROM lane WHERE id = ANY($1::int[]) ORDER BY id FOR UPDATE;

-- name: Lanes :many
SELECT * FROM lane;

-- name: LanesOfChecks :many
SELECT * FROM lane WHERE check_id = ANY($1::text[]) ORDER BY id;

-- name: SaveLanes :exec
UPDATE lane SET machine = u.machine, stale_at = u.stale_at, stale_noted = false, ended = lane.ended + u.ended
FROM (SELECT unnest(@ids::int[]) AS id, unnest(@machines::bytea[]) AS machine, unnest(@stale::timestamptz[]) AS stale_at,
             unnest(@ended::int[]) AS ended) u
WHERE lane.id = u.id;

-- name: NoteStaleLanes :many
-- A piece of the lanes that fell silent, locked in the order that all lock lanes
-- in; those that somebody is at are left for the next time.
UPDATE lane SET stale_noted = true
FROM (SELECT l.id FROM lane l WHERE NOT l.stale_noted AND l.stale_at < @now::timestamptz ORDER BY l.id LIMIT @most FOR UPDATE SKIP LOCKED) due
WHERE lane.id = due.id RETURNING lane.check_id;

-- name: AskJudging :exec
INSERT INTO judge_due (service) SELECT unnest($1::text[]);

-- name: TakeJudging :many
-- The oldest wishes that nobody is at; they go with DropJudging in the same transaction.
SELECT id, service FROM judge_due ORDER BY id LIMIT $1 FOR UPDATE SKIP LOCKED;

-- name: DropJudging :exec
DELETE FROM judge_due WHERE id = ANY($1::bigint[]);

-- name: TryJudging :many
-- Those of some services that nobody judges now; nobody else does until the end of the transaction.
SELECT u.s::text AS service FROM (SELECT unnest($1::text[]) AS s) u WHERE pg_try_advisory_xact_lock(hashtextextended('judging ' || u.s, 0));

-- name: LockJudging :exec
-- One judging of a service at a time, so that a later one never sees less;
-- lifted at the end of the transaction. All lock in the order of the keys.
SELECT pg_advisory_xact_lock(k) FROM (SELECT hashtextextended('judging ' || u.s, 0) AS k FROM (SELECT unnest($1::text[]) AS s) u ORDER BY 1) keys;

-- name: InsertMeasurements :many
WITH taken AS (
    INSERT INTO measurement (lane, at, outcome, thousandths, late_ms, delay_s, detail, clock_ms, uncertain_ms)
    SELECT u.lane, u.at, u.outcome,
           coalesce((@values::bigint[])[u.start + 1 : u.start + u.length], '{}'), u.late_ms, u.delay_s, nullif(u.detail, ''),
           nullif(u.clock_ms, -2147483648), nullif(u.uncertain_ms, -2147483648)
    FROM (SELECT unnest(@lanes::int[]) AS lane, unnest(@ats::timestamptz[]) AS at, unnest(@outcomes::smallint[]) AS outcome,
                 unnest(@starts::int[]) AS start, unnest(@lengths::int[]) AS length,
                 unnest(@lates::int[]) AS late_ms, unnest(@delays::int[]) AS delay_s, unnest(@details::text[]) AS detail,
                 unnest(@clocks::int[]) AS clock_ms, unnest(@uncertains::int[]) AS uncertain_ms) u
    ON CONFLICT DO NOTHING
    RETURNING lane, at
)
SELECT lane, at FROM taken;

-- name: MeasurementsOf :many
SELECT at, outcome, thousandths, measures, late_ms, delay_s, detail, clock_ms, uncertain_ms FROM measurement
WHERE lane = @lane AND at >= @since AND at < @before ORDER BY at;

-- name: LatestMeasurements :many
SELECT at, outcome, thousandths, measures, late_ms, delay_s, detail, clock_ms, uncertain_ms FROM measurement
WHERE lane = @lane AND at >= @since AND at <= @until ORDER BY at DESC LIMIT @most;

-- name: LatestOfLanes :many
-- The latest raw measurement of each of some lanes that has any.
SELECT l.lane::int AS lane, m.at FROM (SELECT unnest($1::int[]) AS lane) l
CROSS JOIN LATERAL (SELECT x.at FROM measurement x WHERE x.lane = l.lane ORDER BY x.at DESC LIMIT 1) m;

-- name: OutcomesFrom :many
SELECT at, outcome FROM measurement WHERE lane = @lane AND at >= @since AND outcome <> 0 ORDER BY at;

-- name: RawBefore :one
SELECT coalesce(max(at), 'epoch')::timestamptz AS at FROM measurement
WHERE lane = $1 AND at >= @since AND at < @before AND outcome <> 0;

-- name: InstantsBetween :many
SELECT at FROM measurement WHERE lane = $1 AND at >= @since AND at <= @until AND outcome <> 0;

-- name: HasRaw :one
SELECT EXISTS (SELECT 1 FROM measurement WHERE lane = $1 AND at = $2);

-- name: StretchesOfLanes :many
-- Lanes of checks, each with the stretches that ended and that touch what is from one
-- instant on to before another, all as of one moment. Of a lane they follow one another,
-- so that the first is the last that begins at or before it.
SELECT l.id, l.check_id, l.location, l.machine, l.ended, s.firsts, s.lasts, s.states, s.owns, s.counts FROM lane l
CROSS JOIN LATERAL (
    SELECT coalesce(array_agg(x.first_at ORDER BY x.first_at), '{}')::timestamptz[] AS firsts,
        coalesce(array_agg(x.last_at ORDER BY x.first_at), '{}')::timestamptz[] AS lasts,
        coalesce(array_agg(x.state ORDER BY x.first_at), '{}')::smallint[] AS states,
        coalesce(array_agg(x.own ORDER BY x.first_at), '{}')::smallint[] AS owns,
        coalesce(array_agg(x.count ORDER BY x.first_at), '{}')::bigint[] AS counts
    FROM (
        SELECT * FROM stretch y
        WHERE y.lane = l.id AND y.first_at < @before AND y.last_at >= @since
        AND y.first_at >= coalesce((SELECT max(z.first_at) FROM stretch z WHERE z.lane = l.id AND z.first_at <= @since), @since)
        ORDER BY y.first_at
    ) x
) s WHERE l.id = ANY(@lanes::int[]) ORDER BY l.id;

-- name: StretchesBefore :many
-- The last stretches that ended and begin at or before an instant, newest first.
SELECT lane, first_at, last_at, state, own, count FROM stretch
WHERE lane = $1 AND first_at <= $2 ORDER BY first_at DESC LIMIT $3;

-- name: PutStretches :exec
INSERT INTO stretch (lane, first_at, last_at, state, own, count)
SELECT unnest(@lanes::int[]), unnest(@firsts::timestamptz[]), unnest(@lasts::timestamptz[]), unnest(@states::smallint[]), unnest(@owns::smallint[]), unnest(@counts::bigint[])
ON CONFLICT (lane, first_at) DO UPDATE SET last_at = excluded.last_at, state = excluded.state, own = excluded.own, count = excluded.count;

-- name: DropStretchesFrom :exec
DELETE FROM stretch WHERE lane = $1 AND first_at >= $2;

-- name: CopyStretches :copyfrom
INSERT INTO stretch (lane, first_at, last_at, state, own, count) VALUES ($1, $2, $3, $4, $5, $6);

-- name: CopyHours :copyfrom
INSERT INTO hour (lane, hour_at, count, degraded, failed, error, low, mean, high, sketch) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10);

-- name: MarkHoursDue :exec
-- A mark that is there already is locked: it must not be taken before the rows
-- that it stands for can be seen.
INSERT INTO hour_due (lane, hour_at)
SELECT u.lane, u.hour_at FROM (SELECT unnest($1::int[]) AS lane, unnest($2::timestamptz[]) AS hour_at) u ORDER BY 1, 2
ON CONFLICT (lane, hour_at) DO UPDATE SET hour_at = excluded.hour_at;

-- name: TakeHoursDue :many
-- Some of the hours that are over. The running one is made when it is read:
-- it would be due again at once.
DELETE FROM hour_due d
USING (SELECT h.lane, h.hour_at FROM hour_due h WHERE h.hour_at < @before ORDER BY h.lane, h.hour_at LIMIT @most FOR UPDATE SKIP LOCKED) due
WHERE d.lane = due.lane AND d.hour_at = due.hour_at RETURNING d.lane, d.hour_at;

-- name: PutHour :exec
INSERT INTO hour (lane, hour_at, count, degraded, failed, error, low, mean, high, sketch) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)
ON CONFLICT (lane, hour_at) DO UPDATE SET count = excluded.count, degraded = excluded.degraded, failed = excluded.failed, error = excluded.error,
    low = excluded.low, mean = excluded.mean, high = excluded.high, sketch = excluded.sketch;

-- name: MeasuredIn :one
-- How many measurements the summaries of a time count, also where they are not all kept.
SELECT coalesce(sum(count), 0)::bigint FROM hour WHERE lane = @lane AND hour_at >= @since AND hour_at < @before;

-- name: Hours :many
SELECT * FROM hour WHERE lane = ANY($1::int[]) AND hour_at >= $2 AND hour_at < $3 ORDER BY lane, hour_at;

-- name: PutState :exec
-- Under LockJudging: the last one to judge knows most, whatever its clock says.
INSERT INTO standing_state (service, state, since_at, judged_at, waiting, never_good, fault) VALUES ($1, $2, $3, $4, $5, $6, $7)
ON CONFLICT (service) DO UPDATE SET state = excluded.state, since_at = excluded.since_at, judged_at = excluded.judged_at, waiting = excluded.waiting,
    never_good = excluded.never_good, fault = excluded.fault;

-- name: EverGood :one
-- Whether any of the lanes was up or degraded in a stretch that ended: lane by lane from
-- its beginning, since whoever plans it otherwise reads all stretches of everybody.
SELECT EXISTS (SELECT 1 FROM (SELECT unnest(@lanes::int[]) AS id) l CROSS JOIN LATERAL
    (SELECT 1 FROM stretch s WHERE s.lane = l.id AND s.state IN (1, 2) ORDER BY s.first_at LIMIT 1) good);

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

-- name: UnsoundHours :many
-- Summaries of a lane that hold numbers which are none, or which no measure can have.
SELECT hour_at FROM hour
WHERE lane = $1 AND (NOT (coalesce(low, 0) BETWEEN -1e15 AND 1e15) OR NOT (coalesce(mean, 0) BETWEEN -1e15 AND 1e15) OR NOT (coalesce(high, 0) BETWEEN -1e15 AND 1e15))
ORDER BY hour_at;

-- name: HealMeasurements :execrows
-- The same in raw measurements from before thousandths: such values are none.
UPDATE measurement SET measures = (
    SELECT array_agg(CASE WHEN v BETWEEN -1e15 AND 1e15 THEN v ELSE 'NaN' END ORDER BY n) FROM unnest(measures) WITH ORDINALITY AS x (v, n))
WHERE lane = $1 AND thousandths IS NULL
AND EXISTS (SELECT 1 FROM unnest(measures) AS v WHERE v <> 'NaN' AND NOT v BETWEEN -1e15 AND 1e15);

-- name: ClearHour :exec
UPDATE hour SET low = NULL, mean = NULL, high = NULL, sketch = '' WHERE lane = $1 AND hour_at = $2;

-- name: Healing :one
INSERT INTO healing (name) VALUES ($1) ON CONFLICT (name) DO UPDATE SET name = excluded.name RETURNING *;

-- name: HealingReached :exec
UPDATE healing SET reached = $2, done_at = $3 WHERE name = $1;

-- name: HasRawBetween :one
SELECT EXISTS (SELECT 1 FROM measurement WHERE lane = $1 AND at >= @since AND at < @before);

-- name: AddTransitions :copyfrom
INSERT INTO transition (service, at, from_state, to_state, because, known_at, corrects) VALUES ($1, $2, $3, $4, $5, $6, $7);

-- name: LatestTransitions :many
-- The last so many of each of some services, in the order in which they were appended.
SELECT t.service, t.at, t.from_state, t.to_state, t.corrects FROM (SELECT unnest(@services::text[]) AS service) s
CROSS JOIN LATERAL (SELECT * FROM transition x WHERE x.service = s.service ORDER BY x.id DESC LIMIT @most) t ORDER BY t.id;

-- name: Transitions :many
-- Those of a service, the latest appended first, before an id.
SELECT id, at, from_state, to_state, because, known_at, corrects FROM transition
WHERE service = $1 AND id < @before ORDER BY id DESC LIMIT @most;
