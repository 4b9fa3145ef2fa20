-- +goose Up
CREATE TABLE work_request (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    work       text NOT NULL,
    revision   int NOT NULL,
    spec       jsonb NOT NULL,
    reason     text NOT NULL,
    by         uuid NOT NULL REFERENCES person,
    asked_at   timestamptz NOT NULL,
    state      text NOT NULL DEFAULT 'open' CHECK (state IN ('open', 'approved', 'refused', 'withdrawn')),
    decided_by uuid REFERENCES person,
    decided_at timestamptz,
    note       text NOT NULL DEFAULT '',
    CHECK ((state = 'open') = (decided_at IS NULL))
);
CREATE INDEX work_request_open ON work_request (id) WHERE state = 'open';
COMMENT ON TABLE work_request IS 'Planned work that a service asks a second person for: it is a window, and announced, once approved.';
COMMENT ON COLUMN work_request.work IS 'Id of the window that it changes, or, once approved, has made; empty: a new one.';
COMMENT ON COLUMN work_request.revision IS 'Of the window, on which it was asked for; 0: a new one.';
COMMENT ON COLUMN work_request.note IS 'What who decided said.';

-- +goose Down
DROP TABLE work_request;
UPDATE revision SET body = body - 'work_approval' WHERE kind = 'service';
