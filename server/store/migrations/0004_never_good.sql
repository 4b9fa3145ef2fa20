-- +goose Up

ALTER TABLE standing_state ADD COLUMN never_good boolean NOT NULL DEFAULT false;
COMMENT ON COLUMN standing_state.never_good IS 'It is down, and none of its checks was ever good: its target may be wrong.';

-- +goose Down
ALTER TABLE standing_state DROP COLUMN never_good;
