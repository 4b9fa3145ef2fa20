-- +goose Up
ALTER TABLE report_link ALTER COLUMN report DROP NOT NULL, ADD COLUMN customer text, ADD CHECK ((report IS NULL) <> (customer IS NULL));
CREATE INDEX report_link_customer ON report_link (customer, id) WHERE customer IS NOT NULL;
COMMENT ON TABLE report_link IS 'Links by which a published report, or how what was promised to a customer stands, can be read without an account.';
COMMENT ON COLUMN report_link.customer IS 'Whose Standing it opens, by id; null: it opens a report.';

-- +goose Down
DELETE FROM report_link_use WHERE link IN (SELECT id FROM report_link WHERE report IS NULL);
DELETE FROM report_link WHERE report IS NULL;
ALTER TABLE report_link DROP COLUMN customer, ALTER COLUMN report SET NOT NULL;
