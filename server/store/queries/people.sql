-- name: Organisation :one
SELECT * FROM organisation;

-- name: MakeOrganisation :exec
-- The options of the server say what it is called, until a person does.
INSERT INTO organisation AS o (name, timezone) VALUES (coalesce(nullif(sqlc.arg(name)::text, ''), 'My organisation'), coalesce(nullif(sqlc.arg(timezone)::text, ''), 'UTC'))
ON CONFLICT (only_row) DO UPDATE SET name = coalesce(nullif(sqlc.arg(name)::text, ''), o.name), timezone = coalesce(nullif(sqlc.arg(timezone)::text, ''), o.timezone)
WHERE o.named_at IS NULL AND (sqlc.arg(name)::text <> '' OR sqlc.arg(timezone)::text <> '');

-- name: NameOrganisation :exec
UPDATE organisation SET name = $1, timezone = $2, named_at = clock();

-- name: AddFirstToken :exec
-- Each start of a server without people makes one; the latest few are good.
WITH old AS (DELETE FROM first_token WHERE hash IN (SELECT hash FROM first_token ORDER BY made_at DESC OFFSET 20))
INSERT INTO first_token (hash) VALUES ($1);

-- name: FirstTokenGood :one
SELECT EXISTS (SELECT 1 FROM first_token WHERE hash = $1);

-- name: UseFirstToken :execrows
-- All go with the first that is used.
DELETE FROM first_token WHERE EXISTS (SELECT 1 FROM first_token known WHERE known.hash = $1);

-- name: CountPeople :one
SELECT count(*) FROM person;

-- name: People :many
SELECT id, email, name, role, customer, teams, created_at, disabled_at, password_at, factor_at, erased_at,
       (SELECT count(*) FROM session s WHERE s.person = person.id AND s.expires_at > sqlc.arg(now)::timestamptz) AS sessions
FROM person WHERE erased_at IS NULL ORDER BY lower(name);

-- name: PeopleNames :many
SELECT id, name FROM person WHERE id = ANY(sqlc.arg(ids)::uuid[]);

-- name: Person :one
SELECT * FROM person WHERE id = $1;

-- name: PersonForUpdate :one
SELECT * FROM person WHERE id = $1 FOR UPDATE;

-- name: LockPeople :exec
-- Changes of people are made one after the other: two administrators who take each
-- other's role away at once would both find the other one left.
SELECT pg_advisory_xact_lock(hashtextextended('people', 0));

-- name: PersonByEmail :one
SELECT * FROM person WHERE lower(email) = lower($1) AND erased_at IS NULL;

-- name: AddPerson :one
INSERT INTO person (email, name, role, customer, teams, password_hash, password_at)
VALUES (sqlc.arg(email), sqlc.arg(name), sqlc.arg(role), sqlc.arg(customer), coalesce(sqlc.arg(teams)::text[], '{}'), sqlc.arg(password_hash), CASE WHEN sqlc.arg(password_hash) = '' THEN NULL ELSE clock() END) RETURNING *;

-- name: ChangePerson :execrows
UPDATE person SET name = sqlc.arg(name), role = sqlc.arg(role), customer = sqlc.arg(customer), teams = coalesce(sqlc.arg(teams)::text[], '{}'),
    disabled_at = sqlc.arg(disabled_at)
WHERE id = sqlc.arg(id) AND erased_at IS NULL;

-- name: SetPassword :exec
UPDATE person SET password_hash = $2, password_at = $3 WHERE id = $1;

-- name: ProposeFactor :exec
-- A second factor that is not confirmed yet; one that is stays.
UPDATE person SET factor_sealed = $2, factor_step = 0 WHERE id = $1 AND factor_at IS NULL;

-- name: ConfirmFactor :exec
UPDATE person SET factor_at = $2 WHERE id = $1;

-- name: DropFactor :exec
WITH codes AS (DELETE FROM recovery_code WHERE recovery_code.person = sqlc.arg(id))
UPDATE person SET factor_sealed = NULL, factor_at = NULL, factor_step = 0 WHERE id = sqlc.arg(id);

-- name: UseStep :execrows
-- A code is taken once, whichever server it is shown to.
UPDATE person SET factor_step = sqlc.arg(step) WHERE id = sqlc.arg(id) AND factor_step < sqlc.arg(step);

-- name: DropRecoveryCodes :exec
DELETE FROM recovery_code WHERE person = $1;

-- name: AddRecoveryCode :exec
INSERT INTO recovery_code (person, hash) VALUES ($1, $2);

-- name: UseRecoveryCode :execrows
UPDATE recovery_code SET used_at = sqlc.arg(now) WHERE person = sqlc.arg(person) AND hash = sqlc.arg(hash) AND used_at IS NULL;

-- name: RecoveryCodesLeft :one
SELECT count(*) FROM recovery_code WHERE person = $1 AND used_at IS NULL;

-- name: ErasePerson :execrows
UPDATE person SET email = 'erased ' || id, name = '', password_hash = '', password_at = NULL, factor_sealed = NULL, factor_at = NULL, factor_step = 0,
       disabled_at = coalesce(disabled_at, sqlc.arg(now)), erased_at = sqlc.arg(now)
WHERE id = sqlc.arg(id) AND erased_at IS NULL;

-- name: ForgetPerson :exec
-- What belongs to a person who is erased.
WITH links AS (DELETE FROM entry_link l WHERE l.person = sqlc.arg(id)),
     browsers AS (DELETE FROM known_browser b WHERE b.person = sqlc.arg(id)),
     methods AS (DELETE FROM person_method m WHERE m.person = sqlc.arg(id)),
     feeds AS (DELETE FROM calendar_feed f WHERE f.person = sqlc.arg(id)),
     deliveries AS (UPDATE delivery d SET address = 'erased', state = CASE WHEN d.state = 'queued' THEN 'suppressed' ELSE d.state END WHERE d.person = sqlc.arg(id))
DELETE FROM recovery_code c WHERE c.person = sqlc.arg(id);

-- name: ForgetName :exec
-- The name of somebody who is erased, where it stands beside what they did.
WITH revisions AS (UPDATE revision SET made_by = sqlc.arg(instead) WHERE revision.made_by = sqlc.arg(name)),
     agents AS (UPDATE agent SET created_by = sqlc.arg(instead) WHERE agent.created_by = sqlc.arg(name)),
     secrets AS (UPDATE secret SET changed_by = sqlc.arg(instead) WHERE secret.changed_by = sqlc.arg(name)),
     addresses AS (UPDATE report_in SET made_by = sqlc.arg(instead) WHERE report_in.made_by = sqlc.arg(name)),
     drafts AS (UPDATE report SET made_by = sqlc.arg(instead) WHERE report.made_by = sqlc.arg(name) AND state = 'draft')
UPDATE trial SET made_by = sqlc.arg(instead) WHERE trial.made_by = sqlc.arg(name);

-- name: CountOfName :one
SELECT count(*) FROM person WHERE name = $1;

-- name: CountAdministrators :one
SELECT count(*) FROM person WHERE role = 'administrator' AND disabled_at IS NULL;

-- name: RequireFactor :exec
UPDATE organisation SET second_factor_required = $1;

-- name: AddEntryLink :exec
-- A person has one; an older one is worthless from then on.
WITH old AS (DELETE FROM entry_link WHERE entry_link.person = sqlc.arg(person))
INSERT INTO entry_link (hash, person, made_at, expires_at) VALUES (sqlc.arg(hash), sqlc.arg(person), sqlc.arg(made_at), sqlc.arg(expires_at));

-- name: EntryLink :one
SELECT person FROM entry_link WHERE hash = $1 AND expires_at > sqlc.arg(now);

-- name: UseEntryLink :one
DELETE FROM entry_link WHERE hash = $1 AND expires_at > sqlc.arg(now) RETURNING person;

-- name: AddSession :exec
INSERT INTO session (id, token_hash, person, begun_at, seen_at, expires_at, source, browser, second_factor)
VALUES (sqlc.arg(id), sqlc.arg(token_hash), sqlc.arg(person), sqlc.arg(now), sqlc.arg(now), sqlc.arg(expires_at), sqlc.arg(source), sqlc.arg(browser), sqlc.arg(second_factor));

-- name: FindSession :one
SELECT data FROM session WHERE token_hash = $1 AND expires_at > sqlc.arg(now);

-- name: KeepSession :exec
-- Never makes one: a session that was ended meanwhile stays ended. One that says
-- nothing new is written once a minute.
UPDATE session SET data = sqlc.arg(data), seen_at = sqlc.arg(now),
    expires_at = least(sqlc.arg(now)::timestamptz + make_interval(secs => sqlc.arg(idle_s)::double precision), begun_at + make_interval(secs => sqlc.arg(longest_s)::double precision))
WHERE token_hash = sqlc.arg(token_hash) AND (data <> sqlc.arg(data) OR seen_at < sqlc.arg(now)::timestamptz - interval '1 minute');

-- name: DropSession :exec
DELETE FROM session WHERE token_hash = $1;

-- name: SessionThere :one
SELECT EXISTS (SELECT 1 FROM session s JOIN person p ON p.id = s.person
               WHERE s.id = $1 AND s.expires_at > sqlc.arg(now) AND p.disabled_at IS NULL);

-- name: SessionsOf :many
SELECT id, begun_at, seen_at, source, browser, second_factor FROM session WHERE person = $1 AND expires_at > sqlc.arg(now) ORDER BY seen_at DESC, id;

-- name: EndSession :execrows
DELETE FROM session WHERE id = sqlc.arg(id) AND person = sqlc.arg(person);

-- name: EndSessions :execrows
-- All of a person but one; keep is no session's id where all are to end.
DELETE FROM session WHERE person = sqlc.arg(person) AND id <> sqlc.arg(keep);

-- name: DropOldSessions :exec
DELETE FROM session WHERE expires_at < clock();

-- name: DropOldLinks :exec
DELETE FROM entry_link WHERE expires_at < clock() - interval '1 day';

-- name: KnowBrowser :exec
INSERT INTO known_browser (hash, person, seen_at) VALUES ($1, $2, $3) ON CONFLICT (hash) DO UPDATE SET seen_at = excluded.seen_at, person = excluded.person;

-- name: BrowserKnown :one
SELECT EXISTS (SELECT 1 FROM known_browser b JOIN person p ON p.id = b.person WHERE b.hash = $1 AND lower(p.email) = lower(sqlc.arg(email)));

-- name: ForgetBrowsers :exec
DELETE FROM known_browser WHERE person = $1;

-- name: DropOldBrowsers :exec
DELETE FROM known_browser WHERE seen_at < clock() - interval '400 days';

-- name: AddTrail :exec
INSERT INTO trail (person_id, actor, action, subject, source, before, detail) VALUES ($1, $2, $3, $4, $5, $6, $7);

-- name: Trail :many
-- Newest first, from below an id on. Empty filters let everything through.
SELECT t.*, coalesce(p.name, '')::text AS name FROM trail t LEFT JOIN person p ON p.id = t.person_id
WHERE t.id < sqlc.arg(below)
  AND (sqlc.arg(person)::text = '' OR t.person_id::text = sqlc.arg(person)::text)
  AND (sqlc.arg(action)::text = '' OR t.action = sqlc.arg(action)::text)
  AND (sqlc.arg(subject)::text = '' OR t.subject = sqlc.arg(subject)::text OR t.subject LIKE sqlc.arg(subject)::text || ' %')
  AND t.at >= sqlc.arg(from_at) AND t.at < sqlc.arg(to_at)
ORDER BY t.id DESC LIMIT sqlc.arg(most);

-- name: TrailActions :many
SELECT DISTINCT action FROM trail ORDER BY action;

-- name: Spend :one
-- Takes so many of what somebody is allowed, if there are as many: at most so
-- many at once, coming back at so many a second.
INSERT INTO attempts AS a (who, left_over, allowed, at)
VALUES (sqlc.arg(who), sqlc.arg(most)::double precision - CASE WHEN sqlc.arg(units)::double precision <= sqlc.arg(most) THEN sqlc.arg(units)::double precision ELSE 0 END,
        sqlc.arg(units)::double precision <= sqlc.arg(most), sqlc.arg(now))
ON CONFLICT (who) DO UPDATE SET
    allowed   = least(sqlc.arg(most), a.left_over + extract(epoch FROM sqlc.arg(now) - a.at) * sqlc.arg(per_second)::double precision) >= sqlc.arg(units),
    left_over = least(sqlc.arg(most), a.left_over + extract(epoch FROM sqlc.arg(now) - a.at) * sqlc.arg(per_second)::double precision)
              - CASE WHEN least(sqlc.arg(most), a.left_over + extract(epoch FROM sqlc.arg(now) - a.at) * sqlc.arg(per_second)::double precision) >= sqlc.arg(units) THEN sqlc.arg(units) ELSE 0 END,
    at        = greatest(sqlc.arg(now), a.at)
RETURNING allowed;

-- name: Forgive :exec
DELETE FROM attempts WHERE who = $1;

-- name: DropAttempts :exec
DELETE FROM attempts WHERE at < clock() - interval '1 day';

-- name: Called :many
-- What people are called that something is kept of by id, or by the name itself.
SELECT u.id::text AS id, person_called(u.id)::text AS name FROM (SELECT unnest(@ids::text[]) AS id) u;
