-- +goose Up
ALTER TABLE definition DROP CONSTRAINT definition_kind_check;
ALTER TABLE definition ADD CONSTRAINT definition_kind_check CHECK (kind IN ('location', 'service', 'check', 'agreement', 'window', 'adjustment',
    'network', 'credential', 'kit', 'pair-plan', 'team', 'customer', 'contract', 'holiday-list',
    'relay', 'contact-method', 'pool', 'notice-plan', 'embargo', 'selection', 'layout'));

CREATE TABLE logo (
    digest  text PRIMARY KEY,
    png     bytea NOT NULL,
    width   int NOT NULL,
    height  int NOT NULL,
    made_by text NOT NULL,
    made_at timestamptz NOT NULL
);
COMMENT ON TABLE logo IS 'Logos that layouts and customers name: drawn anew as PNG when they were uploaded, by the SHA-256 of that, hexadecimal.';
CREATE TRIGGER logo_kept BEFORE UPDATE OR DELETE ON logo FOR EACH ROW EXECUTE FUNCTION keep_blob();

-- +goose Down
DROP TABLE logo;
UPDATE revision SET body = (body - 'attach' - 'contacts' - 'layout' - 'logo') #- '{schedule,publish}' WHERE kind IN ('customer', 'contract');
DELETE FROM revision WHERE kind = 'layout';
DELETE FROM definition WHERE kind = 'layout';
ALTER TABLE definition DROP CONSTRAINT definition_kind_check;
ALTER TABLE definition ADD CONSTRAINT definition_kind_check CHECK (kind IN ('location', 'service', 'check', 'agreement', 'window', 'adjustment',
    'network', 'credential', 'kit', 'pair-plan', 'team', 'customer', 'contract', 'holiday-list',
    'relay', 'contact-method', 'pool', 'notice-plan', 'embargo', 'selection'));
