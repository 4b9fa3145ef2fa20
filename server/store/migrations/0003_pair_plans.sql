-- +goose Up

ALTER TABLE definition DROP CONSTRAINT definition_kind_check;
ALTER TABLE definition ADD CONSTRAINT definition_kind_check
    CHECK (kind IN ('location', 'service', 'check', 'agreement', 'window', 'adjustment', 'network', 'credential', 'kit', 'pair-plan'));

-- +goose Down
ALTER TABLE definition DROP CONSTRAINT definition_kind_check;
ALTER TABLE definition ADD CONSTRAINT definition_kind_check
    CHECK (kind IN ('location', 'service', 'check', 'agreement', 'window', 'adjustment', 'network', 'credential', 'kit', 'mesh'));
