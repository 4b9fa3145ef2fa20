-- +goose Up
CREATE TABLE close_answer (
    agreement text NOT NULL,
    period    text NOT NULL,
    key       text NOT NULL,
    cause     text NOT NULL DEFAULT '',
    text      text NOT NULL,
    by        uuid NOT NULL REFERENCES person,
    at        timestamptz NOT NULL,
    PRIMARY KEY (agreement, period, key)
);
COMMENT ON TABLE close_answer IS 'What was said to the questions of a close; those that are not asked any more stay.';
COMMENT ON COLUMN close_answer.key IS 'Of the question: another once what it asks about is another.';

CREATE TABLE frozen_period (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    agreement   text NOT NULL,
    period      text NOT NULL,
    frozen_at   timestamptz NOT NULL,
    frozen_by   uuid NOT NULL REFERENCES person,
    content     json NOT NULL,
    inputs      bytea NOT NULL,
    unfrozen_at timestamptz,
    unfrozen_by uuid REFERENCES person,
    reason      text NOT NULL DEFAULT '',
    CHECK ((unfrozen_at IS NULL) = (unfrozen_by IS NULL))
);
CREATE UNIQUE INDEX frozen_period_now ON frozen_period (agreement, period) WHERE unfrozen_at IS NULL;
CREATE INDEX frozen_period_of ON frozen_period (agreement, period, id);
COMMENT ON TABLE frozen_period IS 'Accounts that a close has fixed, with what they were made from; what was frozen is never changed.';
COMMENT ON COLUMN frozen_period.content IS 'As report.content, without number and remark.';
COMMENT ON COLUMN frozen_period.reason IS 'Why it was unfrozen.';
-- +goose StatementBegin
CREATE FUNCTION keep_frozen() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF TG_OP = 'DELETE' OR OLD.unfrozen_at IS NOT NULL OR NEW.content::text IS DISTINCT FROM OLD.content::text OR NEW.inputs IS DISTINCT FROM OLD.inputs
        OR (NEW.agreement, NEW.period, NEW.frozen_at, NEW.frozen_by) IS DISTINCT FROM (OLD.agreement, OLD.period, OLD.frozen_at, OLD.frozen_by) THEN
        RAISE EXCEPTION 'a frozen account stays as it was frozen';
    END IF;
    RETURN NEW;
END $$;
-- +goose StatementEnd
CREATE TRIGGER frozen_period_kept BEFORE UPDATE OR DELETE ON frozen_period FOR EACH ROW EXECUTE FUNCTION keep_frozen();

-- +goose Down
DROP TABLE frozen_period;
DROP FUNCTION keep_frozen;
DROP TABLE close_answer;
