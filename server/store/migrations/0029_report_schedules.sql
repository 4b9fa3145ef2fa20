-- +goose Up
CREATE TABLE report_schedule_run (
    customer text NOT NULL,
    due_at   timestamptz NOT NULL,
    ran_at   timestamptz NOT NULL,
    drafted  int NOT NULL,
    PRIMARY KEY (customer, due_at)
);
COMMENT ON TABLE report_schedule_run IS 'When the reports of a customer were drafted by its schedule.';

-- +goose Down
DROP TABLE report_schedule_run;
