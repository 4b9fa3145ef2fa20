-- +goose Up

-- Adds to the catalogue alone: no day partition is rewritten.
ALTER TABLE measurement ADD COLUMN thousandths bigint[], ALTER COLUMN measures SET DEFAULT '{}';
COMMENT ON COLUMN measurement.thousandths IS 'Values in thousandths of their unit, in the order core/measure gives for the kind of check; the least bigint where there is none. NULL in rows from before this column, which have measures.';
COMMENT ON COLUMN measurement.measures IS 'What thousandths holds, in rows from before that column; NaN where there is none.';

CREATE TABLE judge_due (
    id       bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    service  text NOT NULL,
    asked_at timestamptz NOT NULL DEFAULT now()
);
COMMENT ON TABLE judge_due IS 'Services to be judged. A row a wish, several for one service: asking never waits for the judging that is under way.';

CREATE TABLE attendance (
    only_row  boolean PRIMARY KEY DEFAULT true CHECK (only_row),
    since_at  timestamptz NOT NULL,
    last_at   timestamptz NOT NULL,
    judged_at timestamptz NOT NULL,
    worked_at timestamptz NOT NULL
);
COMMENT ON TABLE attendance IS 'When servers were there: what a silence means depends on whether anybody could hear.';
COMMENT ON COLUMN attendance.since_at IS 'Since when some server has been there without a pause.';
COMMENT ON COLUMN attendance.last_at IS 'When some server last said that it is there.';
COMMENT ON COLUMN attendance.judged_at IS 'When some server last looked for services to judge.';
COMMENT ON COLUMN attendance.worked_at IS 'When the queue of background work last did something.';

CREATE UNLOGGED TABLE attempts (
    who       text PRIMARY KEY,
    left_over double precision NOT NULL,
    allowed   boolean NOT NULL,
    at        timestamptz NOT NULL
);
COMMENT ON TABLE attempts IS 'How many attempts somebody may still make, for all servers together. Unlogged: after a crash all begin anew.';
COMMENT ON COLUMN attempts.who IS 'What is limited and for whom, such as sign-in astrid@skerry.example.';
COMMENT ON COLUMN attempts.allowed IS 'Whether the last attempt was let through.';
COMMENT ON COLUMN attempts.left_over IS 'Attempts left at the instant at; they come back with time.';

CREATE TABLE healing (
    name    text PRIMARY KEY,
    reached text NOT NULL DEFAULT '',
    done_at timestamptz
);
COMMENT ON TABLE healing IS 'How far jobs have come that mend rows written by earlier versions.';

ALTER TABLE agent
    ADD COLUMN instance       text NOT NULL DEFAULT '',
    ADD COLUMN instance_until timestamptz NOT NULL DEFAULT 'epoch',
    ADD COLUMN set_aside      int NOT NULL DEFAULT 0,
    ADD COLUMN aside          jsonb NOT NULL DEFAULT '[]',
    ADD COLUMN release_at     timestamptz;
COMMENT ON COLUMN agent.instance IS 'The process that works with the token.';
COMMENT ON COLUMN agent.instance_until IS 'Until when it is taken to be at work, whichever server it speaks to.';
COMMENT ON COLUMN agent.set_aside IS 'Measurements in its quarantine, as the agent last said.';
COMMENT ON COLUMN agent.aside IS 'The latest of them with the reasons, as the agent last said.';
COMMENT ON COLUMN agent.release_at IS 'When a person last asked the agent to deliver its quarantine again.';

ALTER TABLE organisation ADD COLUMN named_at timestamptz;
COMMENT ON COLUMN organisation.named_at IS 'When a person named it and chose its zone; until then the options of the server do.';
UPDATE organisation SET named_at = now() WHERE EXISTS (SELECT 1 FROM person);

ALTER TABLE standing_state ADD COLUMN fault text NOT NULL DEFAULT '';
COMMENT ON COLUMN standing_state.fault IS 'Why the service cannot be judged, in words; empty when it can.';

CREATE TABLE definition_mark (
    only_row boolean PRIMARY KEY DEFAULT true CHECK (only_row),
    number   bigint NOT NULL
);
COMMENT ON TABLE definition_mark IS 'Counts the changes of definitions, kept by triggers: whoever has seen this number has seen them all.';
INSERT INTO definition_mark (number) VALUES (1);
-- +goose StatementBegin
CREATE FUNCTION count_definition_change() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    UPDATE definition_mark SET number = number + 1;
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER definition_changed AFTER INSERT OR UPDATE OR DELETE ON definition FOR EACH STATEMENT EXECUTE FUNCTION count_definition_change();
CREATE TRIGGER revision_changed AFTER INSERT OR UPDATE OR DELETE ON revision FOR EACH STATEMENT EXECUTE FUNCTION count_definition_change();
CREATE TRIGGER organisation_changed AFTER INSERT OR UPDATE OR DELETE ON organisation FOR EACH STATEMENT EXECUTE FUNCTION count_definition_change();

-- +goose Down
DROP TRIGGER organisation_changed ON organisation;
DROP TRIGGER revision_changed ON revision;
DROP TRIGGER definition_changed ON definition;
DROP FUNCTION count_definition_change;
DROP TABLE definition_mark;
ALTER TABLE standing_state DROP COLUMN fault;
ALTER TABLE organisation DROP COLUMN named_at;
ALTER TABLE agent DROP COLUMN instance, DROP COLUMN instance_until, DROP COLUMN set_aside, DROP COLUMN aside, DROP COLUMN release_at;
DROP TABLE healing, attempts, attendance, judge_due;
ALTER TABLE measurement DROP COLUMN thousandths;
