-- +goose Up
CREATE TABLE transition (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    service    text NOT NULL,
    at         timestamptz NOT NULL,
    from_state smallint NOT NULL,
    to_state   smallint NOT NULL,
    because    jsonb NOT NULL,
    known_at   timestamptz NOT NULL,
    corrects   boolean NOT NULL
);
CREATE INDEX transition_service ON transition (service, id);
COMMENT ON TABLE transition IS 'Changes of services'' states, appended in the transaction that judges; no row is ever changed.';
COMMENT ON COLUMN transition.at IS 'When the state changed, by the measurements.';
COMMENT ON COLUMN transition.from_state IS 'As in standing_state.state.';
COMMENT ON COLUMN transition.because IS 'Ids of the checks and services that made it so: {"checks": [], "services": []}.';
COMMENT ON COLUMN transition.known_at IS 'When it was judged.';
COMMENT ON COLUMN transition.corrects IS 'What was appended before was otherwise: later measurements or definitions changed the past. This and what follows count.';
-- +goose StatementBegin
CREATE FUNCTION keep_transition() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    RAISE EXCEPTION 'a transition is kept as it is';
END $$;
-- +goose StatementEnd
CREATE TRIGGER transition_kept BEFORE UPDATE OR DELETE ON transition FOR EACH ROW EXECUTE FUNCTION keep_transition();

-- +goose Down
DROP TABLE transition;
DROP FUNCTION keep_transition;
