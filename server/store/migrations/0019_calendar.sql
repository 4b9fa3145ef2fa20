-- +goose Up
ALTER TABLE definition DROP CONSTRAINT definition_kind_check;
ALTER TABLE definition ADD CONSTRAINT definition_kind_check CHECK (kind IN ('location', 'service', 'check', 'agreement', 'window', 'adjustment',
    'network', 'credential', 'kit', 'pair-plan', 'team', 'customer', 'contract', 'holiday-list',
    'relay', 'contact-method', 'pool', 'notice-plan', 'embargo'));

CREATE TABLE calendar_feed (
    id         uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    person     uuid NOT NULL REFERENCES person,
    name       text NOT NULL,
    token_hash bytea NOT NULL UNIQUE,
    services   text[] NOT NULL,
    made_at    timestamptz NOT NULL,
    used_at    timestamptz
);
COMMENT ON TABLE calendar_feed IS 'Subscriptions to planned work as iCalendar, each good by its token alone until it is deleted.';
COMMENT ON COLUMN calendar_feed.token_hash IS 'SHA-256 of the token that the address carries.';
COMMENT ON COLUMN calendar_feed.services IS 'Ids of the services whose work it shows; none: all that its person may see.';
COMMENT ON COLUMN calendar_feed.used_at IS 'When it was read last, to the hour.';

-- +goose Down
DROP TABLE calendar_feed;
UPDATE revision SET body = body - 'imported' - 'tell' WHERE kind = 'window';
DELETE FROM revision WHERE kind = 'embargo';
DELETE FROM definition WHERE kind = 'embargo';
ALTER TABLE definition DROP CONSTRAINT definition_kind_check;
ALTER TABLE definition ADD CONSTRAINT definition_kind_check CHECK (kind IN ('location', 'service', 'check', 'agreement', 'window', 'adjustment',
    'network', 'credential', 'kit', 'pair-plan', 'team', 'customer', 'contract', 'holiday-list',
    'relay', 'contact-method', 'pool', 'notice-plan'));
