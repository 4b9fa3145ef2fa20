-- +goose Up

-- Adds to the catalogue alone: no day partition is rewritten.
ALTER TABLE measurement ADD COLUMN clock_ms int, ADD COLUMN uncertain_ms int;
COMMENT ON COLUMN measurement.clock_ms IS 'How far the own clock of who measured was ahead of the database''s, at most 24 days told; NULL where it did not say.';
COMMENT ON COLUMN measurement.uncertain_ms IS 'How far the column at may be wrong; NULL where who measured did not say.';

ALTER TABLE agent
    ADD COLUMN uncertain_ms bigint NOT NULL DEFAULT 0,
    ADD COLUMN lost         bigint NOT NULL DEFAULT 0,
    ADD COLUMN lost_at      timestamptz,
    ADD COLUMN lost_seen    bigint NOT NULL DEFAULT 0;
COMMENT ON COLUMN agent.lost IS 'Measurements that its store could not keep, ever, as it last said.';
COMMENT ON COLUMN agent.lost_at IS 'The last time it lost some.';
COMMENT ON COLUMN agent.lost_seen IS 'How many of them some person has seen.';
COMMENT ON COLUMN agent.clock_offset_ms IS 'How far the agent''s own clock is ahead of the database''s, as the agent last said.';
COMMENT ON COLUMN agent.uncertain_ms IS 'How far its idea of the database''s clock may be wrong, as the agent last said.';

-- Several servers may be started together for the first time, and each prints a token.
CREATE TABLE first_token (
    hash    bytea PRIMARY KEY,
    made_at timestamptz NOT NULL DEFAULT now()
);
COMMENT ON TABLE first_token IS 'SHA-256 of the one-time tokens with which the first person is made; none once there is one.';
ALTER TABLE organisation DROP COLUMN first_token;

-- +goose Down
ALTER TABLE organisation ADD COLUMN first_token bytea;
DROP TABLE first_token;
ALTER TABLE agent DROP COLUMN uncertain_ms, DROP COLUMN lost, DROP COLUMN lost_at, DROP COLUMN lost_seen;
ALTER TABLE measurement DROP COLUMN clock_ms, DROP COLUMN uncertain_ms;
