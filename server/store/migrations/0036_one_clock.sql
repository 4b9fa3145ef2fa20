-- +goose Up
-- One clock: what is written without an instant of its own, and what is asked about the
-- present, go by it. It is the database's, moved by the setting kestite.clock_moved of the
-- database (an interval), which nothing but trials on another day sets.
-- +goose StatementBegin
CREATE FUNCTION clock() RETURNS timestamptz LANGUAGE sql STABLE AS
$$ SELECT clock_timestamp() + coalesce(nullif(current_setting('kestite.clock_moved', true), ''), '0')::interval $$;
-- +goose StatementEnd
COMMENT ON FUNCTION clock() IS 'The present instant for all servers and agents: the database''s clock, moved by the setting kestite.clock_moved';

ALTER TABLE person ALTER COLUMN created_at SET DEFAULT clock();
ALTER TABLE definition ALTER COLUMN created_at SET DEFAULT clock();
ALTER TABLE revision ALTER COLUMN made_at SET DEFAULT clock();
ALTER TABLE agent ALTER COLUMN created_at SET DEFAULT clock();
ALTER TABLE trial ALTER COLUMN made_at SET DEFAULT clock();
ALTER TABLE report ALTER COLUMN made_at SET DEFAULT clock();
ALTER TABLE trail ALTER COLUMN at SET DEFAULT clock();
ALTER TABLE secret ALTER COLUMN changed_at SET DEFAULT clock();
ALTER TABLE report_in ALTER COLUMN made_at SET DEFAULT clock();
ALTER TABLE judge_due ALTER COLUMN asked_at SET DEFAULT clock();
ALTER TABLE first_token ALTER COLUMN made_at SET DEFAULT clock();
ALTER TABLE change_made ALTER COLUMN made_at SET DEFAULT clock();

-- +goose Down
ALTER TABLE person ALTER COLUMN created_at SET DEFAULT now();
ALTER TABLE definition ALTER COLUMN created_at SET DEFAULT now();
ALTER TABLE revision ALTER COLUMN made_at SET DEFAULT now();
ALTER TABLE agent ALTER COLUMN created_at SET DEFAULT now();
ALTER TABLE trial ALTER COLUMN made_at SET DEFAULT now();
ALTER TABLE report ALTER COLUMN made_at SET DEFAULT now();
ALTER TABLE trail ALTER COLUMN at SET DEFAULT now();
ALTER TABLE secret ALTER COLUMN changed_at SET DEFAULT now();
ALTER TABLE report_in ALTER COLUMN made_at SET DEFAULT now();
ALTER TABLE judge_due ALTER COLUMN asked_at SET DEFAULT now();
ALTER TABLE first_token ALTER COLUMN made_at SET DEFAULT now();
ALTER TABLE change_made ALTER COLUMN made_at SET DEFAULT now();
DROP FUNCTION clock();
