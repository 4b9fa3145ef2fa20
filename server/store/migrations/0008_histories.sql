-- +goose Up
ALTER TABLE revision ADD COLUMN counts_from timestamptz;
COMMENT ON COLUMN revision.counts_from IS 'Of an agreement: start of the first period that the revision accounts; NULL for its first one and for other kinds.';

-- An edit of an agreement counted from the calendar month that began after it.
UPDATE revision SET counts_from = (date_trunc('month', valid_from AT TIME ZONE (body ->> 'timezone')) + interval '1 month') AT TIME ZONE (body ->> 'timezone')
WHERE kind = 'agreement' AND number > 1 AND body ->> 'timezone' IN (SELECT name FROM pg_timezone_names);

CREATE TABLE change_made (
    person  uuid NOT NULL REFERENCES person (id) ON DELETE CASCADE,
    key     text NOT NULL,
    digest  bytea NOT NULL,
    ids     text[] NOT NULL,
    made_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (person, key)
);
CREATE INDEX change_made_at ON change_made (made_at);
COMMENT ON TABLE change_made IS 'Changes of definitions by the key that their maker gave them, for a week, so that one asked for again makes nothing twice.';
COMMENT ON COLUMN change_made.digest IS 'SHA-256 of what was asked for.';
COMMENT ON COLUMN change_made.ids IS 'Of the definition of each step.';

-- +goose Down
DROP TABLE change_made;
ALTER TABLE revision DROP COLUMN counts_from;
