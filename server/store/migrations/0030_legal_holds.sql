-- +goose Up
CREATE TABLE legal_hold (
    id        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    first_day text NOT NULL CHECK (first_day ~ '^[0-9]{4}-[0-9]{2}-[0-9]{2}$'),
    last_day  text NOT NULL CHECK (last_day ~ '^[0-9]{4}-[0-9]{2}-[0-9]{2}$' AND last_day >= first_day),
    reason    text NOT NULL,
    made_by   text NOT NULL,
    made_at   timestamptz NOT NULL,
    lifted_by text,
    lifted_at timestamptz,
    CHECK ((lifted_by IS NULL) = (lifted_at IS NULL))
);
COMMENT ON TABLE legal_hold IS 'Days whose measurements are not dropped, however old, until somebody lifts the hold. Days are those of UTC, as partitions are.';

-- +goose Down
DROP TABLE legal_hold;
