-- +goose Up

CREATE TABLE organisation (
    only_row    boolean PRIMARY KEY DEFAULT true CHECK (only_row),
    name        text NOT NULL,
    timezone    text NOT NULL,
    first_token bytea
);
COMMENT ON TABLE organisation IS 'The one organisation this installation belongs to.';
COMMENT ON COLUMN organisation.timezone IS 'IANA zone of the period band and of new agreements.';
COMMENT ON COLUMN organisation.first_token IS 'SHA-256 of the one-time token with which the first person is made; NULL once used.';

CREATE TABLE person (
    id            uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    email         text NOT NULL,
    name          text NOT NULL,
    role          text NOT NULL CHECK (role IN ('administrator', 'manager', 'operator', 'viewer')),
    password_hash text NOT NULL,
    created_at    timestamptz NOT NULL DEFAULT now(),
    disabled_at   timestamptz
);
CREATE UNIQUE INDEX person_email ON person (lower(email));
COMMENT ON TABLE person IS 'Who may sign in, and as what.';
COMMENT ON COLUMN person.password_hash IS 'Argon2id in PHC string form.';

CREATE TABLE sessions (
    token  text PRIMARY KEY,
    data   bytea NOT NULL,
    expiry timestamptz NOT NULL
);
CREATE INDEX sessions_expiry ON sessions (expiry);
COMMENT ON TABLE sessions IS 'Signed-in browsers; the layout is that of the session library.';

CREATE TABLE definition (
    kind       text NOT NULL CHECK (kind IN ('location', 'service', 'check', 'agreement', 'window', 'adjustment')),
    id         text NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    retired_at timestamptz,
    PRIMARY KEY (kind, id)
);
COMMENT ON TABLE definition IS 'Everything people define. Ids never change; retiring keeps all history.';

CREATE TABLE revision (
    kind        text NOT NULL,
    id          text NOT NULL,
    number      int NOT NULL,
    valid_from  timestamptz NOT NULL,
    valid_until timestamptz,
    body        jsonb NOT NULL,
    made_at     timestamptz NOT NULL DEFAULT now(),
    made_by     text NOT NULL,
    reason      text NOT NULL DEFAULT '',
    PRIMARY KEY (kind, id, number),
    FOREIGN KEY (kind, id) REFERENCES definition (kind, id),
    CHECK (valid_until > valid_from)
);
CREATE UNIQUE INDEX revision_open ON revision (kind, id) WHERE valid_until IS NULL;
COMMENT ON TABLE revision IS 'What a definition said during [valid_from, valid_until). Past revisions are never rewritten.';
COMMENT ON COLUMN revision.valid_until IS 'NULL while the revision is in force.';

CREATE TABLE agent (
    id              uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    location        text NOT NULL,
    token_hash      bytea NOT NULL UNIQUE,
    created_at      timestamptz NOT NULL DEFAULT now(),
    created_by      text NOT NULL,
    revoked_at      timestamptz,
    seen_at         timestamptz,
    version         text NOT NULL DEFAULT '',
    clock_offset_ms bigint NOT NULL DEFAULT 0,
    backlog         bigint NOT NULL DEFAULT 0,
    lateness_ms     double precision NOT NULL DEFAULT 0,
    complaint       text NOT NULL DEFAULT ''
);
COMMENT ON TABLE agent IS 'A process that measures at a location, known by its token.';
COMMENT ON COLUMN agent.clock_offset_ms IS 'How far the agent''s clock is ahead of the server''s, as the agent last said.';
COMMENT ON COLUMN agent.backlog IS 'Measurements that wait in its store for delivery.';
COMMENT ON COLUMN agent.lateness_ms IS '99th percentile of starts after schedule, as the agent last said.';
COMMENT ON COLUMN agent.complaint IS 'What keeps it from measuring, in words; empty when nothing does.';

CREATE TABLE lane (
    id        int GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    check_id  text NOT NULL,
    location  text NOT NULL,
    machine   jsonb NOT NULL DEFAULT '{}',
    stale_at  timestamptz,
    stale_noted boolean NOT NULL DEFAULT true,
    UNIQUE (check_id, location)
);
CREATE INDEX lane_stale ON lane (stale_at) WHERE NOT stale_noted;
COMMENT ON TABLE lane IS 'One check at one location, and its confirmation machine after the last measurement.';
COMMENT ON COLUMN lane.stale_at IS 'The deadline after which silence makes it unmeasured.';
COMMENT ON COLUMN lane.stale_noted IS 'The services concerned were judged for that silence.';

CREATE TABLE measurement (
    lane     int NOT NULL,
    at       timestamptz NOT NULL,
    outcome  smallint NOT NULL,
    measures real[] NOT NULL,
    late_ms  int NOT NULL DEFAULT 0,
    detail   text,
    PRIMARY KEY (lane, at)
) PARTITION BY RANGE (at);
COMMENT ON TABLE measurement IS 'Raw measurements, a partition a day (UTC).';
COMMENT ON COLUMN measurement.outcome IS '0 error, 1 ok, 2 degraded, 3 failed.';
COMMENT ON COLUMN measurement.measures IS 'Values in the order core/measure gives for the kind of check; NaN where there is none.';
COMMENT ON COLUMN measurement.late_ms IS 'How long after schedule it started.';

CREATE TABLE stretch (
    lane     int NOT NULL,
    first_at timestamptz NOT NULL,
    last_at  timestamptz NOT NULL,
    state    smallint NOT NULL,
    own      smallint NOT NULL,
    count    bigint NOT NULL,
    PRIMARY KEY (lane, first_at)
);
CREATE INDEX stretch_last ON stretch (lane, last_at);
COMMENT ON TABLE stretch IS 'Maximal runs of equal judged state and outcome without a gap; accounts follow from these.';
COMMENT ON COLUMN stretch.state IS '0 unmeasured, 1 up, 2 degraded, 3 down, as judged.';
COMMENT ON COLUMN stretch.own IS '1 ok, 2 degraded, 3 failed, as measured.';

CREATE TABLE hour (
    lane     int NOT NULL,
    hour_at  timestamptz NOT NULL,
    count    int NOT NULL,
    degraded int NOT NULL,
    failed   int NOT NULL,
    error    int NOT NULL,
    low      real,
    mean     real,
    high     real,
    sketch   bytea NOT NULL,
    PRIMARY KEY (lane, hour_at)
);
COMMENT ON TABLE hour IS 'Hourly summaries of the kind''s leading measure (milliseconds), kept for ever.';
COMMENT ON COLUMN hour.count IS 'Measurements, errors not counted.';
COMMENT ON COLUMN hour.sketch IS 'Mergeable quantiles, see core/measure.Sketch.';

CREATE TABLE hour_due (
    lane    int NOT NULL,
    hour_at timestamptz NOT NULL,
    PRIMARY KEY (lane, hour_at)
);
COMMENT ON TABLE hour_due IS 'Hours whose summary must be made again from raw measurements.';

CREATE TABLE standing_state (
    service   text PRIMARY KEY,
    state     smallint NOT NULL,
    since_at  timestamptz NOT NULL,
    judged_at timestamptz NOT NULL,
    waiting   int NOT NULL DEFAULT 0
);
COMMENT ON TABLE standing_state IS 'The live state of each service, as last judged.';
COMMENT ON COLUMN standing_state.waiting IS 'Measurements that wait for confirmation.';

CREATE TABLE trial (
    id         uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    location   text NOT NULL,
    spec       jsonb NOT NULL,
    made_at    timestamptz NOT NULL DEFAULT now(),
    made_by    text NOT NULL,
    taken_at   timestamptz,
    result     jsonb,
    done_at    timestamptz
);
CREATE INDEX trial_open ON trial (location) WHERE taken_at IS NULL;
COMMENT ON TABLE trial IS 'A measurement asked for at once from a location; not part of any account.';

CREATE TABLE report (
    id           uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    agreement    text NOT NULL,
    period       text NOT NULL,
    number       int NOT NULL,
    state        text NOT NULL CHECK (state IN ('draft', 'published')),
    made_at      timestamptz NOT NULL DEFAULT now(),
    made_by      text NOT NULL,
    remark       text NOT NULL DEFAULT '',
    published_at timestamptz,
    published_by text,
    content      json,
    inputs       bytea,
    document     bytea,
    digest       text,
    UNIQUE (agreement, period, number),
    CHECK (state = 'draft' OR (published_at IS NOT NULL AND content IS NOT NULL AND inputs IS NOT NULL AND document IS NOT NULL AND digest IS NOT NULL))
);
COMMENT ON TABLE report IS 'The published word on one agreement and period. A published row is frozen by trigger.';
COMMENT ON COLUMN report.period IS 'Month as 2026-01, in the agreement''s zone.';
COMMENT ON COLUMN report.content IS 'Everything the report says, account included; json and not jsonb, so that its bytes stay as digested.';
COMMENT ON COLUMN report.inputs IS 'Gzipped JSON: the definitions and stretches the account was made from.';
COMMENT ON COLUMN report.document IS 'The PDF as published.';
COMMENT ON COLUMN report.digest IS 'SHA-256 over content and inputs, hexadecimal.';

-- +goose StatementBegin
CREATE FUNCTION keep_published() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF OLD.state = 'published' THEN
        RAISE EXCEPTION 'a published report is frozen';
    END IF;
    IF TG_OP = 'DELETE' THEN
        RETURN OLD;
    END IF;
    RETURN NEW;
END $$;
-- +goose StatementEnd
CREATE TRIGGER report_frozen BEFORE UPDATE OR DELETE ON report FOR EACH ROW EXECUTE FUNCTION keep_published();

CREATE TABLE audit (
    id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at      timestamptz NOT NULL DEFAULT now(),
    person  text NOT NULL,
    action  text NOT NULL,
    subject text NOT NULL,
    detail  jsonb NOT NULL DEFAULT '{}'
);
COMMENT ON TABLE audit IS 'Every change, by whom.';

-- +goose Down
DROP TABLE audit, report, trial, standing_state, hour_due, hour, stretch, measurement, lane, agent, revision, definition, sessions, person, organisation;
DROP FUNCTION keep_published;
