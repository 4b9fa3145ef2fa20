-- +goose Up

-- Sessions begin anew: until now their tokens were kept as they are.
DROP TABLE sessions;
CREATE TABLE session (
    id            uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    token_hash    text NOT NULL UNIQUE,
    person        uuid NOT NULL REFERENCES person (id),
    data          bytea NOT NULL DEFAULT '',
    begun_at      timestamptz NOT NULL,
    seen_at       timestamptz NOT NULL,
    expires_at    timestamptz NOT NULL,
    source        text NOT NULL,
    browser       text NOT NULL,
    second_factor boolean NOT NULL
);
CREATE INDEX session_person ON session (person);
CREATE INDEX session_expires ON session (expires_at);
COMMENT ON TABLE session IS 'Signed-in browsers.';
COMMENT ON COLUMN session.token_hash IS 'SHA-256 of the cookie, in base64.';
COMMENT ON COLUMN session.data IS 'What the session library keeps.';
COMMENT ON COLUMN session.seen_at IS 'When it was last used, to the minute.';
COMMENT ON COLUMN session.source IS 'The network address it began from.';
COMMENT ON COLUMN session.second_factor IS 'Whether it began with a second factor.';

ALTER TABLE person
    ADD COLUMN password_at   timestamptz,
    ADD COLUMN factor_sealed bytea,
    ADD COLUMN factor_at     timestamptz,
    ADD COLUMN factor_step   bigint NOT NULL DEFAULT 0,
    ADD COLUMN erased_at     timestamptz;
UPDATE person SET password_at = created_at;
COMMENT ON COLUMN person.password_hash IS 'Argon2id in PHC string form; empty while the person has none.';
COMMENT ON COLUMN person.password_at IS 'When the password was set; NULL while there is none.';
COMMENT ON COLUMN person.factor_sealed IS 'The secret of the second factor (TOTP, RFC 6238), encrypted with the key that lies outside of the database.';
COMMENT ON COLUMN person.factor_at IS 'Since when the second factor is asked for; NULL: not yet confirmed, or none.';
COMMENT ON COLUMN person.factor_step IS 'The time step of the last code that was taken: none is taken twice.';
COMMENT ON COLUMN person.erased_at IS 'When name and e-mail address were emptied for good; the trail keeps the id.';

CREATE TABLE recovery_code (
    person  uuid NOT NULL REFERENCES person (id),
    hash    bytea NOT NULL,
    used_at timestamptz,
    PRIMARY KEY (person, hash)
);
COMMENT ON TABLE recovery_code IS 'SHA-256 of the codes that stand in for the second factor, each once.';

CREATE TABLE entry_link (
    hash       bytea PRIMARY KEY,
    person     uuid NOT NULL REFERENCES person (id),
    made_at    timestamptz NOT NULL,
    expires_at timestamptz NOT NULL
);
COMMENT ON TABLE entry_link IS 'SHA-256 of the one-time links with which a person chooses a password.';

CREATE TABLE known_browser (
    hash    bytea PRIMARY KEY,
    person  uuid NOT NULL REFERENCES person (id),
    seen_at timestamptz NOT NULL
);
COMMENT ON TABLE known_browser IS 'Browsers that somebody signed in with: strangers'' attempts do not hold them up.';

ALTER TABLE organisation ADD COLUMN second_factor_required boolean NOT NULL DEFAULT false;
COMMENT ON COLUMN organisation.second_factor_required IS 'Whoever has no second factor can only set one up.';

ALTER TABLE trial ADD COLUMN digest bytea;
COMMENT ON COLUMN trial.digest IS 'SHA-256 of location and spec: asked for twice within a minute, it is made once.';
CREATE INDEX trial_digest ON trial (digest) WHERE done_at IS NULL;

-- A credential may be sent to where it is sent today, and nowhere else.
UPDATE revision c SET body = c.body || jsonb_build_object('origins', coalesce((
    SELECT jsonb_agg(DISTINCT regexp_replace(regexp_replace(lower(substring(k.body ->> 'target' FROM '^([A-Za-z]+://[^/?#]+)')),
               '^(https://.*):443$', '\1'), '^(http://.*):80$', '\1'))
    FROM revision k JOIN definition d ON d.kind = k.kind AND d.id = k.id
    WHERE k.kind = 'check' AND k.valid_until IS NULL AND d.retired_at IS NULL AND k.body -> 'http' ->> 'credential' = c.id
      AND k.body ->> 'target' ~* '^https?://[^/?#]' AND k.body ->> 'target' !~ '^[A-Za-z]+://[^/?#]*@'), '[]'::jsonb))
WHERE c.kind = 'credential' AND c.valid_until IS NULL;

ALTER TABLE audit RENAME TO trail;
ALTER TABLE trail RENAME COLUMN person TO actor;
ALTER TABLE trail
    ADD COLUMN person_id uuid,
    ADD COLUMN source    text NOT NULL DEFAULT '',
    ADD COLUMN before    jsonb;
ALTER TABLE trail ALTER COLUMN actor SET DEFAULT '';
UPDATE trail t SET person_id = p.id, actor = '' FROM person p
WHERE p.name = t.actor AND (SELECT count(*) FROM person q WHERE q.name = p.name) = 1;
UPDATE trail t SET subject = 'person ' || p.id FROM person p
WHERE t.subject = 'person ' || p.name AND (SELECT count(*) FROM person q WHERE q.name = p.name) = 1;
CREATE INDEX trail_person ON trail (person_id, id);
CREATE INDEX trail_subject ON trail (subject text_pattern_ops, id);
COMMENT ON TABLE trail IS 'What was done, by whom and from where. It is only ever added to.';
COMMENT ON COLUMN trail.person_id IS 'Who did it; the name is in the table person, until it is erased there.';
COMMENT ON COLUMN trail.actor IS 'Who did it where that is no known person, such as the console.';
COMMENT ON COLUMN trail.source IS 'The network address it was done from.';
COMMENT ON COLUMN trail.before IS 'What was there before, where something was changed.';
COMMENT ON COLUMN trail.detail IS 'What is there since, or what was asked for.';

-- +goose StatementBegin
CREATE FUNCTION keep_trail() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    RAISE EXCEPTION 'the trail is only ever added to';
END $$;
-- +goose StatementEnd
CREATE TRIGGER trail_kept BEFORE UPDATE OR DELETE OR TRUNCATE ON trail FOR EACH STATEMENT EXECUTE FUNCTION keep_trail();
-- +goose StatementBegin
CREATE FUNCTION keep_reports() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    RAISE EXCEPTION 'published reports are frozen';
END $$;
-- +goose StatementEnd
CREATE TRIGGER reports_kept BEFORE TRUNCATE ON report FOR EACH STATEMENT EXECUTE FUNCTION keep_reports();

-- +goose Down
DROP TRIGGER reports_kept ON report;
DROP FUNCTION keep_reports;
DROP TRIGGER trail_kept ON trail;
DROP FUNCTION keep_trail;
DROP INDEX trail_person, trail_subject;
UPDATE trail t SET actor = p.name FROM person p WHERE p.id = t.person_id;
ALTER TABLE trail DROP COLUMN person_id, DROP COLUMN source, DROP COLUMN before;
ALTER TABLE trail RENAME COLUMN actor TO person;
ALTER TABLE trail RENAME TO audit;
DROP INDEX trial_digest;
ALTER TABLE trial DROP COLUMN digest;
ALTER TABLE organisation DROP COLUMN second_factor_required;
DROP TABLE known_browser, entry_link, recovery_code, session;
ALTER TABLE person DROP COLUMN password_at, DROP COLUMN factor_sealed, DROP COLUMN factor_at, DROP COLUMN factor_step, DROP COLUMN erased_at;
CREATE TABLE sessions (token text PRIMARY KEY, data bytea NOT NULL, expiry timestamptz NOT NULL);
CREATE INDEX sessions_expiry ON sessions (expiry);
