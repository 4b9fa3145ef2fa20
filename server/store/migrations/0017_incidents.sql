-- +goose Up
CREATE TABLE incident (
    id              bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    about           text NOT NULL CHECK (about IN ('service', 'check', 'location', 'agreement')),
    subject         text NOT NULL,
    began_at        timestamptz NOT NULL,
    known_at        timestamptz NOT NULL,
    latest_at       timestamptz NOT NULL,
    times           int NOT NULL,
    state           smallint NOT NULL,
    worst           smallint NOT NULL,
    ended_at        timestamptz,
    severity        text NOT NULL CHECK (severity IN ('minor', 'major', 'critical')),
    severity_by     text NOT NULL DEFAULT '',
    ack_by          text,
    ack_at          timestamptz,
    ack_until       timestamptz,
    assignee        text NOT NULL DEFAULT '',
    resolved_at     timestamptz,
    resolved_by     text NOT NULL DEFAULT '',
    unfounded       boolean NOT NULL DEFAULT false,
    review          jsonb,
    cause           bigint REFERENCES incident,
    cause_by        text NOT NULL DEFAULT '',
    planned         text,
    planned_until   timestamptz,
    because         jsonb NOT NULL DEFAULT '{"checks": [], "services": []}',
    CHECK ((ack_by IS NULL) = (ack_at IS NULL)),
    CHECK (cause IS DISTINCT FROM id)
);
CREATE UNIQUE INDEX incident_open ON incident (about, subject) WHERE resolved_at IS NULL;
CREATE INDEX incident_subject ON incident (about, subject, began_at DESC);
CREATE INDEX incident_began ON incident (began_at DESC, id DESC);
CREATE INDEX incident_cause ON incident (cause) WHERE cause IS NOT NULL;
COMMENT ON TABLE incident IS 'Pieces of trouble, as they stand now; what happened to them is in incident_event.';
COMMENT ON COLUMN incident.about IS 'What subject is the id of.';
COMMENT ON COLUMN incident.began_at IS 'When the trouble began, by the measurements; known_at is when the incident was opened, latest_at when its trouble last began anew.';
COMMENT ON COLUMN incident.times IS 'How often its trouble began.';
COMMENT ON COLUMN incident.state IS 'Of the subject, as in standing_state.state; worst is the worst it was.';
COMMENT ON COLUMN incident.ended_at IS 'When the trouble ended, by the measurements; null while it lasts, though a person may have resolved the incident.';
COMMENT ON COLUMN incident.severity_by IS 'Id of the person who chose the severity; empty: the policy of the service did.';
COMMENT ON COLUMN incident.resolved_by IS 'Id of a person; empty: it was over by itself.';
COMMENT ON COLUMN incident.unfounded IS 'Later measurements or definitions showed that there was no trouble.';
COMMENT ON COLUMN incident.cause IS 'The incident that it follows from; that one follows none.';
COMMENT ON COLUMN incident.cause_by IS 'Id of the person who decided on the cause, or that there is none; empty: it follows from what needs what.';
COMMENT ON COLUMN incident.planned IS 'Id of the window in which it began; nobody is to be disturbed before planned_until.';
COMMENT ON COLUMN incident.because IS 'As in transition.because, of its beginning.';

CREATE TABLE incident_words (
    incident bigint PRIMARY KEY REFERENCES incident,
    words    tsvector NOT NULL
);
CREATE INDEX incident_words_words ON incident_words USING gin (words);
COMMENT ON TABLE incident_words IS 'What incidents are found by: names, notes, reviews.';

CREATE TABLE incident_event (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    incident   bigint NOT NULL REFERENCES incident,
    kind       text NOT NULL,
    at         timestamptz NOT NULL,
    written_at timestamptz NOT NULL,
    person     text NOT NULL DEFAULT '',
    text       text NOT NULL DEFAULT '',
    public     boolean NOT NULL DEFAULT false,
    other      text NOT NULL DEFAULT '',
    until_at   timestamptz,
    cause      bigint
);
CREATE INDEX incident_event_of ON incident_event (incident, id);
COMMENT ON TABLE incident_event IS 'What happened to incidents, appended; no row is ever changed.';
COMMENT ON COLUMN incident_event.at IS 'When it happened; written_at is when that was known.';
COMMENT ON COLUMN incident_event.person IS 'Id of who did it; empty: nobody.';
COMMENT ON COLUMN incident_event.public IS 'Customers may read the note.';
COMMENT ON COLUMN incident_event.other IS 'A person that it was assigned to, an address, the name of a file, a class.';
COMMENT ON COLUMN incident_event.until_at IS 'Until when it was acknowledged, or when its trouble really began.';
-- +goose StatementBegin
CREATE FUNCTION keep_incident_event() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    RAISE EXCEPTION 'what happened to an incident is kept as it is';
END $$;
-- +goose StatementEnd
CREATE TRIGGER incident_event_kept BEFORE UPDATE OR DELETE ON incident_event FOR EACH ROW EXECUTE FUNCTION keep_incident_event();

CREATE TABLE incident_file (
    id       bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    incident bigint NOT NULL REFERENCES incident,
    name     text NOT NULL,
    type     text NOT NULL,
    digest   bytea NOT NULL,
    content  bytea NOT NULL,
    by       text NOT NULL,
    at       timestamptz NOT NULL,
    UNIQUE (incident, digest)
);
COMMENT ON TABLE incident_file IS 'Files that people attached to incidents.';
COMMENT ON COLUMN incident_file.type IS 'Media type, told by its first bytes.';
COMMENT ON COLUMN incident_file.digest IS 'SHA-256 of the content.';

ALTER TABLE trial ADD COLUMN incident bigint REFERENCES incident, ADD COLUMN moment text CHECK (moment IN ('onset', 'recovery')), ADD COLUMN label text;
CREATE INDEX trial_of_incident ON trial (incident) WHERE incident IS NOT NULL;
COMMENT ON COLUMN trial.incident IS 'The incident that it is evidence of; it is kept with that.';
COMMENT ON COLUMN trial.moment IS 'When it was asked for: as the trouble was believed, or as it was over.';
COMMENT ON COLUMN trial.label IS 'What the evidence is of, in words.';

-- +goose Down
DELETE FROM trial WHERE incident IS NOT NULL;
ALTER TABLE trial DROP COLUMN incident, DROP COLUMN moment, DROP COLUMN label;
DROP TABLE incident_file;
DROP TABLE incident_words;
DROP TABLE incident_event;
DROP FUNCTION keep_incident_event;
DROP TABLE incident;
