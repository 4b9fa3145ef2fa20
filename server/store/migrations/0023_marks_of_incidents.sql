-- +goose Up
ALTER TABLE incident ADD COLUMN marks text[] NOT NULL DEFAULT '{}';
COMMENT ON COLUMN incident.marks IS 'What its evidence at onset shows that other incidents may show too: a hop, a certificate, a name server; see core/incident.Marks.';
CREATE INDEX incident_marks ON incident USING gin (marks);

-- +goose Down
DROP INDEX incident_marks;
ALTER TABLE incident DROP COLUMN marks;
