-- +goose Up
CREATE TABLE doubt (
    lane     int NOT NULL,
    hour_at  timestamptz NOT NULL,
    late     int NOT NULL,
    unsure   int NOT NULL,
    worst_ms int NOT NULL,
    PRIMARY KEY (lane, hour_at)
);
COMMENT ON TABLE doubt IS 'Hours of a lane with measurements that came late, or whose instants are unsure; the others have no row.';
COMMENT ON COLUMN doubt.late IS 'Measurements that were stored more than an hour after they were made.';
COMMENT ON COLUMN doubt.unsure IS 'Measurements whose instant may be wrong by more than a second; worst_ms is by how much at most.';

CREATE TABLE close_owner (
    agreement text NOT NULL,
    period    text NOT NULL,
    person    uuid NOT NULL REFERENCES person,
    set_by    text NOT NULL,
    set_at    timestamptz NOT NULL,
    PRIMARY KEY (agreement, period)
);
COMMENT ON TABLE close_owner IS 'Who sees to it that a period is closed.';

CREATE UNLOGGED TABLE close_visit (
    agreement text NOT NULL,
    period    text NOT NULL,
    person    uuid NOT NULL REFERENCES person,
    seen_at   timestamptz NOT NULL,
    PRIMARY KEY (agreement, period, person)
);
COMMENT ON TABLE close_visit IS 'Who has the close of a period on the screen; rows of earlier visits are overwritten.';

CREATE TABLE close_file (
    id        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    agreement text NOT NULL,
    period    text NOT NULL,
    key       text NOT NULL,
    name      text NOT NULL,
    type      text NOT NULL,
    digest    bytea NOT NULL,
    content   bytea NOT NULL,
    made_by   text NOT NULL,
    made_at   timestamptz NOT NULL,
    UNIQUE (agreement, period, key, digest)
);
COMMENT ON TABLE close_file IS 'Files that people attached to the answers of a close.';
COMMENT ON COLUMN close_file.key IS 'Of the question.';

-- +goose Down
DROP TABLE close_file, close_visit, close_owner, doubt;
