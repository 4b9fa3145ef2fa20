-- +goose Up
-- Agreements can be parts of a contract, which is a definition of its own.
ALTER TABLE definition DROP CONSTRAINT definition_kind_check;
ALTER TABLE definition ADD CONSTRAINT definition_kind_check CHECK (kind IN ('location', 'service', 'check', 'agreement', 'window', 'adjustment',
    'network', 'credential', 'kit', 'pair-plan', 'team', 'customer', 'contract'));

-- +goose Down
UPDATE revision SET body = body - 'contract' WHERE kind = 'agreement' AND body ? 'contract';
DELETE FROM revision WHERE kind = 'contract';
DELETE FROM definition WHERE kind = 'contract';
ALTER TABLE definition DROP CONSTRAINT definition_kind_check;
ALTER TABLE definition ADD CONSTRAINT definition_kind_check CHECK (kind IN ('location', 'service', 'check', 'agreement', 'window', 'adjustment',
    'network', 'credential', 'kit', 'pair-plan', 'team', 'customer'));
