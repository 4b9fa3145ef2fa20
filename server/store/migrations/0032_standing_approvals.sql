-- +goose Up
CREATE TABLE standing_approval (
    id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    customer     text NOT NULL,
    given_by     uuid NOT NULL REFERENCES person,
    given_at     timestamptz NOT NULL,
    until_day    text CHECK (until_day ~ '^[0-9]{4}-[0-9]{2}-[0-9]{2}$'),
    withdrawn_by uuid REFERENCES person,
    withdrawn_at timestamptz,
    CHECK ((withdrawn_by IS NULL) = (withdrawn_at IS NULL))
);
CREATE UNIQUE INDEX standing_approval_now ON standing_approval (customer) WHERE withdrawn_at IS NULL;
COMMENT ON TABLE standing_approval IS 'Who lets the schedule of a customer publish its reports at once.';
COMMENT ON COLUMN standing_approval.until_day IS 'Last day on which it is good, where the organisation is; null: until it is withdrawn.';

ALTER TABLE notice ADD COLUMN report uuid REFERENCES report;
COMMENT ON COLUMN notice.report IS 'The report whose PDF goes with it by mail; null: none.';

-- +goose Down
ALTER TABLE notice DROP COLUMN report;
DROP TABLE standing_approval;
