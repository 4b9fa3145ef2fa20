-- +goose Up
ALTER TABLE definition DROP CONSTRAINT definition_kind_check;
ALTER TABLE definition ADD CONSTRAINT definition_kind_check CHECK (kind IN ('location', 'service', 'check', 'agreement', 'window', 'adjustment',
    'network', 'credential', 'kit', 'pair-plan', 'team', 'customer', 'contract', 'holiday-list',
    'relay', 'contact-method', 'pool', 'notice-plan', 'embargo', 'selection'));

ALTER TABLE delivery ADD COLUMN digest boolean NOT NULL DEFAULT false;
COMMENT ON COLUMN delivery.digest IS 'It is held for a digest of its plan, which is sent at next_at, and is its summary then.';

-- +goose Down
ALTER TABLE delivery DROP COLUMN digest;
UPDATE revision SET body = body - 'selections' - 'outside' - 'instead' - 'digest' WHERE kind = 'notice-plan';
DELETE FROM revision WHERE kind = 'contact-method' AND body ->> 'kind' = 'script';
DELETE FROM revision WHERE kind = 'selection';
DELETE FROM definition WHERE kind = 'selection';
DELETE FROM definition d WHERE d.kind = 'contact-method' AND NOT EXISTS (SELECT 1 FROM revision r WHERE r.kind = d.kind AND r.id = d.id);
ALTER TABLE definition DROP CONSTRAINT definition_kind_check;
ALTER TABLE definition ADD CONSTRAINT definition_kind_check CHECK (kind IN ('location', 'service', 'check', 'agreement', 'window', 'adjustment',
    'network', 'credential', 'kit', 'pair-plan', 'team', 'customer', 'contract', 'holiday-list',
    'relay', 'contact-method', 'pool', 'notice-plan', 'embargo'));
