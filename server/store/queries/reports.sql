-- name: AddReport :one
INSERT INTO report (agreement, period, number, state, made_by, remark) VALUES ($1, $2, $3, 'draft', $4, $5) RETURNING id;

-- name: NextReportNumber :one
SELECT (coalesce(max(number), 0) + 1)::int AS next FROM report WHERE agreement = $1 AND period = $2;

-- name: OpenDraft :one
SELECT id FROM report WHERE agreement = $1 AND period = $2 AND state = 'draft';

-- name: ReportList :many
SELECT id, agreement, period, number, state, made_at, person_called(made_by)::text AS made_by, remark, published_at,
       coalesce(person_called(published_by), '')::text AS published_by, digest, serial,
       coalesce(content -> 'account' ->> 'verdict', '')::text AS verdict, coalesce(content -> 'account' ->> 'availability_percent', '')::text AS availability_percent
FROM report ORDER BY period DESC, agreement, number DESC;

-- name: Report :one
SELECT * FROM report WHERE id = $1;

-- name: ReportForUpdate :one
SELECT * FROM report WHERE id = $1 FOR UPDATE;

-- name: SetRemark :execrows
UPDATE report SET remark = $2 WHERE id = $1 AND state = 'draft';

-- name: PublishReport :exec
UPDATE report SET state = 'published', published_at = $2, published_by = $3, content = $4, inputs = $5, document = $6, digest = $7,
    chain = $8, serial = $9, ledger = $10, entry = $11, manifest = $12, signature = $13,
    credit = $14 WHERE id = $1;

-- name: DropDraft :execrows
DELETE FROM report WHERE id = $1 AND state = 'draft';

-- name: ReportNames :many
SELECT id, agreement, period, number FROM report WHERE id = ANY(sqlc.arg(ids)::uuid[]);

-- name: PublishedPeriods :many
SELECT DISTINCT period FROM report WHERE agreement = $1 AND state = 'published';

-- name: SettledPeriods :many
-- Those of an agreement whose account is published or frozen.
SELECT r.period FROM report r WHERE r.agreement = $1 AND r.state = 'published'
UNION SELECT f.period FROM frozen_period f WHERE f.agreement = $1 AND f.unfrozen_at IS NULL;

-- name: PublishedAmong :many
-- Those of some periods of agreements that have a published report.
SELECT DISTINCT r.agreement, r.period FROM (SELECT unnest(@agreements::text[]) AS agreement, unnest(@periods::text[]) AS period) u
JOIN report r ON r.agreement = u.agreement AND r.period = u.period WHERE r.state = 'published';

-- name: ReportPeople :one
SELECT person_called(made_by)::text AS made_by, coalesce(person_called(published_by), '')::text AS published_by,
       coalesce(person_called(approved_by), '')::text AS approved_by FROM report WHERE id = $1;

-- name: ApproveReport :execrows
UPDATE report SET approved_by = $2, approved_at = $3, approved_seen = $4 WHERE id = $1 AND state = 'draft';

-- name: AddReportNote :one
INSERT INTO report_note (report, kind, about, text, made_by, made_at, state) VALUES ($1, $2, $3, $4, $5, $6, $7) RETURNING id;

-- name: ReportNotes :many
SELECT id, kind, about, text, made_by AS by_id, person_called(made_by)::text AS made_by, made_at, state, answer, coalesce(person_called(answered_by), '')::text AS answered_by,
       answered_at, coalesce(revision::text, '')::text AS revision
FROM report_note WHERE report = $1 ORDER BY id;

-- name: ReportNoteForUpdate :one
SELECT * FROM report_note WHERE id = $1 AND report = $2 FOR UPDATE;

-- name: CountReportNotes :one
SELECT count(*) FROM report_note WHERE report = $1 AND made_by = $2;

-- name: EndObjection :exec
UPDATE report_note SET state = $2, answer = $3, answered_by = $4, answered_at = $5, revision = sqlc.narg(revision)::uuid WHERE id = $1;

-- name: OpenObjections :many
SELECT n.id, n.report, r.agreement, r.period, n.about, person_called(n.made_by)::text AS made_by, n.made_at
FROM report_note n JOIN report r ON r.id = n.report WHERE n.state = 'open' ORDER BY n.made_at;

-- name: AddReportLink :one
INSERT INTO report_link (hash, report, whom, made_by, made_at, until) VALUES ($1, @report::uuid, $2, $3, $4, $5) RETURNING id;

-- name: AddStandingLink :exec
INSERT INTO report_link (hash, customer, whom, made_by, made_at, until) VALUES ($1, @customer::text, $2, $3, $4, $5);

-- name: StandingLinks :many
SELECT l.id, l.whom, person_called(l.made_by)::text AS made_by, l.made_at, l.until, coalesce(person_called(l.revoked_by), '')::text AS revoked_by, l.revoked_at
FROM report_link l WHERE l.customer = @customer::text ORDER BY l.id;

-- name: RevokeStandingLink :execrows
UPDATE report_link SET revoked_by = $2, revoked_at = $3 WHERE id = $1 AND customer = @customer::text AND revoked_at IS NULL;

-- name: CustomerByLink :one
SELECT id, customer::text AS customer FROM report_link WHERE hash = $1 AND customer IS NOT NULL AND revoked_at IS NULL AND until > @now::timestamptz;

-- name: ReportLinks :many
SELECT l.id, l.whom, person_called(l.made_by)::text AS made_by, l.made_at, l.until, coalesce(person_called(l.revoked_by), '')::text AS revoked_by, l.revoked_at
FROM report_link l WHERE l.report = @report::uuid ORDER BY l.id;

-- name: RevokeReportLink :execrows
UPDATE report_link SET revoked_by = $2, revoked_at = $3 WHERE id = $1 AND report = @report::uuid AND revoked_at IS NULL;

-- name: ReportByLink :one
SELECT id, report::text AS report, whom FROM report_link WHERE hash = $1 AND report IS NOT NULL AND revoked_at IS NULL AND until > @now::timestamptz;

-- name: UseReportLink :exec
INSERT INTO report_link_use (link, happened_at, form, source) VALUES ($1, $2, $3, $4);

-- name: ReportLinkUses :many
SELECT link, happened_at, form, source FROM report_link_use WHERE link = ANY(@links::bigint[]) ORDER BY happened_at DESC LIMIT 200;

-- name: CountReportLinks :one
SELECT count(*) FROM report_link WHERE report = @report::uuid;

-- name: LatestReport :one
SELECT coalesce(max(number), 0)::int AS number FROM report WHERE agreement = $1 AND period = $2 AND state = 'published';

-- name: HasReport :one
SELECT EXISTS (SELECT 1 FROM report WHERE agreement = $1 AND period = $2);

-- name: HasPublished :one
SELECT EXISTS (SELECT 1 FROM report WHERE agreement = $1 AND period = $2 AND state = 'published');

-- name: LastScheduleRun :one
SELECT coalesce(max(due_at), 'epoch')::timestamptz AS due_at FROM report_schedule_run WHERE customer = $1;

-- name: AddScheduleRun :execrows
INSERT INTO report_schedule_run (customer, due_at, ran_at, drafted) VALUES ($1, $2, $3, $4) ON CONFLICT DO NOTHING;

-- name: UnsettledReports :many
-- Periods whose measurements somebody still needs: drafts, frozen accounts that are not published, and reports that somebody objects to.
SELECT r.agreement, r.period FROM report r WHERE r.state = 'draft'
UNION SELECT f.agreement, f.period FROM frozen_period f WHERE f.unfrozen_at IS NULL
  AND NOT EXISTS (SELECT 1 FROM report r WHERE r.agreement = f.agreement AND r.period = f.period AND r.state = 'published')
UNION SELECT r.agreement, r.period FROM report_note n JOIN report r ON r.id = n.report WHERE n.state = 'open';

-- name: AllPublished :many
SELECT DISTINCT agreement, period FROM report WHERE state = 'published';

-- name: LegalHolds :many
SELECT id, first_day, last_day, reason, person_called(made_by)::text AS made_by, made_at, coalesce(person_called(lifted_by), '')::text AS lifted_by, lifted_at
FROM legal_hold ORDER BY id DESC;

-- name: AddLegalHold :one
INSERT INTO legal_hold (first_day, last_day, reason, made_by, made_at) VALUES ($1, $2, $3, $4, $5) RETURNING id;

-- name: LiftLegalHold :execrows
UPDATE legal_hold SET lifted_by = $2, lifted_at = $3 WHERE id = $1 AND lifted_at IS NULL;

-- name: AddLogo :exec
INSERT INTO logo (digest, png, width, height, made_by, made_at) VALUES ($1, $2, $3, $4, $5, $6) ON CONFLICT DO NOTHING;

-- name: Logo :one
SELECT png, width, height FROM logo WHERE digest = $1;

-- name: KnownLogos :many
SELECT digest FROM logo WHERE digest = ANY(@digests::text[]);

-- name: PublishedFigures :many
-- The latest published report of each of some periods of an agreement, by what it says.
SELECT DISTINCT ON (r.period) r.period, r.number, coalesce(r.content -> 'account' ->> 'verdict', '')::text AS verdict,
       coalesce(r.content -> 'account' ->> 'availability_percent', '')::text AS availability, coalesce(r.content -> 'account' ->> 'availability_low_percent', '')::text AS low,
       coalesce(r.content -> 'account' ->> 'availability_high_percent', '')::text AS high, coalesce((r.content -> 'account' ->> 'downtime_ms')::bigint, 0)::bigint AS downtime_ms,
       coalesce(r.content ->> 'target_percent', '')::text AS target
FROM report r WHERE r.agreement = @agreement AND r.period = ANY(@periods::text[]) AND r.state = 'published' ORDER BY r.period, r.number DESC;

-- name: GiveStandingApproval :one
INSERT INTO standing_approval (customer, given_by, given_at, until_day) VALUES ($1, $2, $3, $4) RETURNING id;

-- name: WithdrawStandingApproval :execrows
UPDATE standing_approval SET withdrawn_by = $2, withdrawn_at = $3 WHERE customer = $1 AND withdrawn_at IS NULL;

-- name: StandingApproval :one
SELECT a.given_by, p.name, a.given_at, coalesce(a.until_day, '')::text AS until_day, p.role, p.teams, (p.disabled_at IS NOT NULL)::bool AS disabled
FROM standing_approval a JOIN person p ON p.id = a.given_by WHERE a.customer = $1 AND a.withdrawn_at IS NULL;

-- name: StandingApprovals :many
SELECT a.id, a.customer, a.given_by, person_called(a.given_by::text)::text AS name, a.given_at, coalesce(a.until_day, '')::text AS until_day,
       coalesce(person_called(a.withdrawn_by::text), '')::text AS withdrawn_name, a.withdrawn_at
FROM standing_approval a ORDER BY a.id DESC;

-- name: ReportDocument :one
SELECT agreement, period, number, document FROM report WHERE id = $1 AND state = 'published';

-- name: AddVolume :one
INSERT INTO volume (kind, subject, band, made_at, made_by, content, digest, pdf, page, workbook) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10) RETURNING id;

-- name: Volumes :many
SELECT id, kind, subject, band, made_at, person_called(made_by)::text AS made_by, digest, json_array_length(content -> 'parts')::int AS parts FROM volume ORDER BY made_at DESC, id;

-- name: Volume :one
SELECT * FROM volume WHERE id = $1;

-- name: LatestPublished :one
-- The latest published report of a period.
SELECT id, number, serial, content, manifest FROM report WHERE agreement = $1 AND period = $2 AND state = 'published' ORDER BY number DESC LIMIT 1;

-- name: PublishedAtTime :one
-- The report of a period that was the latest at an instant.
SELECT id, number, serial, content, manifest FROM report WHERE agreement = @agreement AND period = @period AND state = 'published' AND published_at <= @at::timestamptz ORDER BY number DESC LIMIT 1;

-- name: CameSince :many
-- How many measurements of some checks in a time were stored after an instant, by location.
SELECT l.location, count(*)::bigint AS count FROM measurement m JOIN lane l ON l.id = m.lane
WHERE l.check_id = ANY(@checks::text[]) AND m.at >= @from_at::timestamptz AND m.at < @until_at::timestamptz
  AND m.at + m.delay_s * interval '1 second' > @since::timestamptz
GROUP BY l.location ORDER BY l.location;
