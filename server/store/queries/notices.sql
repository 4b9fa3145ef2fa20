-- name: PersonMethods :many
SELECT m.* FROM person_method m JOIN person p ON p.id = m.person
WHERE p.erased_at IS NULL AND (sqlc.narg(person)::uuid IS NULL OR m.person = sqlc.narg(person)) ORDER BY m.made_at, m.id;

-- name: PeopleToTell :many
SELECT id, name, email, role, teams, disabled_at FROM person WHERE erased_at IS NULL AND role <> 'customer' ORDER BY lower(name);

-- name: PersonMethod :one
SELECT * FROM person_method WHERE id = @id AND person = @person FOR UPDATE;

-- name: AddPersonMethod :one
INSERT INTO person_method (person, kind, address, active, made_at) VALUES (@person, @kind, @address, @active, @made_at) RETURNING *;

-- name: EditPersonMethod :execrows
UPDATE person_method SET active = @active WHERE id = @id AND person = @person;

-- name: DropPersonMethod :execrows
DELETE FROM person_method WHERE id = @id AND person = @person;

-- name: PutCode :exec
UPDATE person_method SET code_hash = @code_hash, code_until = @code_until, code_tries = 0 WHERE id = @id;

-- name: TryCode :exec
UPDATE person_method SET code_tries = code_tries + 1 WHERE id = @id;

-- name: VerifyMethod :exec
UPDATE person_method SET verified_at = @verified_at, code_hash = NULL, code_until = NULL WHERE id = @id;

-- name: IncidentsToTell :many
-- Those that are open, and those whose end may not have been told.
SELECT * FROM incident WHERE resolved_at IS NULL OR resolved_at >= @since::timestamptz ORDER BY id;

-- name: TellingEvents :many
-- What of incidents telling goes by, in the order in which it became known.
SELECT incident, kind, at, written_at, person, text, other, until_at, cause FROM incident_event
WHERE incident = ANY(@incidents::bigint[])
  AND kind IN ('opened', 'reopened', 'over', 'resolved', 'unfounded', 'severity', 'followed', 'freed', 'acknowledged', 'released')
ORDER BY incident, id;

-- name: NoticesOf :many
SELECT * FROM notice WHERE incident = ANY(@incidents::bigint[]) ORDER BY id;

-- name: AddNotice :many
-- None where the same one was made before.
INSERT INTO notice (incident, plan, key, what, round, step, nth, severity, cause, due_at, made_at, report)
VALUES (@incident, @plan, @key, @what, @round, @step, @nth, @severity, @cause, @due_at, @made_at, @report)
ON CONFLICT (incident, plan, key) DO NOTHING RETURNING id;

-- name: AddDelivery :one
INSERT INTO delivery (notice, incident, person, kind, method, address, state, why, subject, text, due_at, made_at, next_at, done_at, again_of, by, digest)
VALUES (@notice, @incident, @person, @kind, @method, @address, @state, @why, @subject, @text, @due_at, @made_at, @next_at, @done_at, @again_of, @by, @digest)
RETURNING id;

-- name: DeliveriesOfIncident :many
SELECT d.*, n.what, n.plan, n.round, n.step, n.nth, coalesce(person_called(d.person::text), '')::text AS called
FROM delivery d JOIN notice n ON n.id = d.notice WHERE d.incident = $1 ORDER BY d.id;

-- name: CountBegun :one
-- How many messages of their own began to an address since an instant by a plan.
SELECT count(*) FROM delivery d JOIN notice n ON n.id = d.notice
WHERE n.plan = @plan AND d.kind = @kind AND d.address = @address AND n.what = 'begun' AND d.state IN ('queued', 'sent', 'failed') AND d.made_at > @since;

-- name: ClaimDeliveries :many
-- Some that are due, for a server that has a while for each. To one address those of one
-- incident go one after the other. What a server died over is marked.
UPDATE delivery d SET claimed_until = @until, tries = d.tries + 1, maybe_twice = d.maybe_twice OR d.claimed_until IS NOT NULL
FROM notice n
WHERE n.id = d.notice AND d.id IN (
    SELECT c.id FROM delivery c
    WHERE c.state = 'queued' AND c.next_at <= @now AND (c.claimed_until IS NULL OR c.claimed_until < @now)
      AND NOT EXISTS (SELECT 1 FROM delivery e WHERE e.state = 'queued' AND e.incident = c.incident AND e.kind = c.kind AND e.address = c.address AND e.id < c.id)
    ORDER BY c.next_at, c.id LIMIT @most FOR UPDATE OF c SKIP LOCKED)
RETURNING d.*, n.what, n.plan, n.round, n.severity, n.cause, n.report;

-- name: EndDelivery :execrows
-- What became of one that this server still holds.
UPDATE delivery SET state = @state, why = @why, subject = @subject, text = @text, answer = @answer, done_at = @done_at, claimed_until = NULL
WHERE id = @id AND state = 'queued' AND claimed_until = @claimed_until;

-- name: RetryDelivery :execrows
UPDATE delivery SET next_at = @next_at, why = @why, subject = @subject, text = @text, answer = @answer, claimed_until = NULL
WHERE id = @id AND state = 'queued' AND claimed_until = @claimed_until;

-- name: ToldOf :one
-- Whether the same receiver was told of the round of an incident before.
SELECT EXISTS (SELECT 1 FROM delivery d JOIN notice n ON n.id = d.notice
WHERE d.incident = @incident AND d.kind = @kind AND d.address = @address AND n.round = @round AND d.state = 'sent' AND d.id < @id);

-- name: HeldDeliveries :many
-- What was held back, and is in no summary yet; of digests, those that are due.
SELECT d.*, n.plan FROM delivery d JOIN notice n ON n.id = d.notice
WHERE d.state = 'held' AND d.summary IS NULL AND (NOT d.digest OR d.next_at <= @now) ORDER BY d.id;

-- name: SumUp :exec
UPDATE delivery SET summary = @summary, why = CASE WHEN digest THEN 'it stood in a digest' ELSE why END WHERE id = ANY(@ids::bigint[]);

-- name: Delivery :one
SELECT d.*, n.what, n.plan, n.round, n.severity, n.cause FROM delivery d JOIN notice n ON n.id = d.notice WHERE d.id = $1;

-- name: Deliveries :many
-- The latest first; a null argument does not narrow.
SELECT d.*, n.what, n.plan, n.round, n.step, n.nth, coalesce(person_called(d.person::text), '')::text AS called, i.about, i.subject AS about_id
FROM delivery d JOIN notice n ON n.id = d.notice LEFT JOIN incident i ON i.id = d.incident
WHERE (sqlc.narg(state)::text IS NULL OR d.state = sqlc.narg(state))
  AND (sqlc.narg(kind)::text IS NULL OR d.kind = sqlc.narg(kind))
  AND (sqlc.narg(person)::uuid IS NULL OR d.person = sqlc.narg(person))
  AND (sqlc.narg(incident)::bigint IS NULL OR d.incident = sqlc.narg(incident))
  AND (sqlc.narg(words)::text IS NULL OR strpos(lower(d.subject || ' ' || d.address || ' ' || d.answer || ' ' || d.why), lower(sqlc.narg(words))) > 0)
  AND (sqlc.narg(from_at)::timestamptz IS NULL OR d.made_at >= sqlc.narg(from_at))
  AND (sqlc.narg(to_at)::timestamptz IS NULL OR d.made_at < sqlc.narg(to_at))
  AND (sqlc.narg(before)::bigint IS NULL OR d.id < sqlc.narg(before))
ORDER BY d.id DESC LIMIT @most;

-- name: InboxOf :many
SELECT d.id, d.incident, d.subject, d.text, d.made_at, d.read_at, n.what, n.severity FROM delivery d JOIN notice n ON n.id = d.notice
WHERE d.person = @person AND d.kind = 'inbox' AND d.state = 'sent' ORDER BY d.id DESC LIMIT @most;

-- name: UnreadOf :one
SELECT count(*) FROM delivery WHERE person = @person AND kind = 'inbox' AND state = 'sent' AND read_at IS NULL;

-- name: ReadInbox :exec
UPDATE delivery SET read_at = @now WHERE person = @person AND kind = 'inbox' AND read_at IS NULL AND id <= @up_to;

-- name: AddDeliveryLink :exec
INSERT INTO delivery_link (hash, delivery, until) VALUES ($1, $2, $3);

-- name: DeliveryByLink :one
SELECT l.until, l.used_at, d.person, d.incident, d.id FROM delivery_link l JOIN delivery d ON d.id = l.delivery WHERE l.hash = $1;

-- name: UseDeliveryLinks :execrows
-- All of a delivery go with the first that is used.
UPDATE delivery_link l SET used_at = @now WHERE l.used_at IS NULL AND l.delivery = (SELECT k.delivery FROM delivery_link k WHERE k.hash = @hash)
  AND EXISTS (SELECT 1 FROM delivery_link k WHERE k.hash = @hash AND k.used_at IS NULL AND k.until > @now);

-- name: CountDeliveries :many
-- How many messages told of incidents, but those that lie in an inbox.
SELECT incident, count(*) FILTER (WHERE state = 'sent') AS sent, count(*) FILTER (WHERE state IN ('queued', 'held')) AS waiting,
    count(*) FILTER (WHERE state = 'failed') AS failed
FROM delivery WHERE incident = ANY(@incidents::bigint[]) AND kind <> 'inbox' AND kind <> '' GROUP BY incident;

-- name: AddHold :one
INSERT INTO hold (about, subject, reason, by, from_at, until_at) VALUES (@about, @subject, @reason, @by, @from_at, @until_at) RETURNING id;

-- name: Hold :one
SELECT * FROM hold WHERE id = $1;

-- name: EndHold :execrows
UPDATE hold SET ended_at = @ended_at, ended_by = @ended_by WHERE id = @id AND ended_at IS NULL AND until_at > @ended_at;

-- name: HoldsSince :many
-- Those that lasted beyond an instant, the latest first.
SELECT h.*, person_called(h.by)::text AS called FROM hold h WHERE least(h.until_at, coalesce(h.ended_at, h.until_at)) > @since::timestamptz ORDER BY h.id DESC LIMIT 2000;

-- name: TroubledDeliveries :many
-- What could not be sent within a day, or was tried several times already, by way.
SELECT d.kind, count(*) AS messages, min(d.made_at)::timestamptz AS since, (array_agg(d.answer ORDER BY d.id DESC))[1]::text AS answer
FROM delivery d WHERE d.kind <> '' AND (d.state = 'failed' AND d.done_at > @since::timestamptz OR d.state = 'queued' AND d.tries >= 3)
  AND NOT EXISTS (SELECT 1 FROM delivery a WHERE a.again_of = d.id AND a.state = 'sent')
GROUP BY d.kind ORDER BY d.kind;

-- name: IsTold :one
-- Whether something that is of no incident was told.
SELECT EXISTS (SELECT 1 FROM notice WHERE incident IS NULL AND plan = '' AND key = $1);

-- name: DropOldNotices :execrows
-- What was told before an instant, with what became of it, some at a time: not of an
-- incident that is open, or ended since, and nothing that waits to be sent.
DELETE FROM notice WHERE id IN (
    SELECT n.id FROM notice n LEFT JOIN incident i ON i.id = n.incident
    WHERE n.made_at < @before::timestamptz AND (n.incident IS NULL OR i.resolved_at < @before::timestamptz)
      AND NOT EXISTS (SELECT 1 FROM delivery d WHERE d.notice = n.id AND (d.state = 'queued' OR d.state = 'held' AND d.summary IS NULL))
    ORDER BY n.made_at LIMIT @most);
