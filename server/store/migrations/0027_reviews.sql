-- +goose Up
ALTER TABLE report ADD COLUMN approved_by text, ADD COLUMN approved_at timestamptz, ADD COLUMN approved_seen text,
    ADD CHECK ((approved_by IS NULL) = (approved_at IS NULL) AND (approved_by IS NULL) = (approved_seen IS NULL));
COMMENT ON COLUMN report.approved_seen IS 'Tells what was approved from what the draft says once it says something else.';

CREATE TABLE report_note (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    report      uuid NOT NULL REFERENCES report ON DELETE CASCADE,
    kind        text NOT NULL CHECK (kind IN ('comment', 'objection')),
    about       text NOT NULL DEFAULT '',
    text        text NOT NULL,
    made_by     text NOT NULL,
    made_at     timestamptz NOT NULL,
    state       text NOT NULL DEFAULT '' CHECK ((kind = 'comment') = (state = '') AND state IN ('', 'open', 'stands', 'revised', 'withdrawn')),
    answer      text NOT NULL DEFAULT '',
    answered_by text,
    answered_at timestamptz,
    revision    uuid REFERENCES report ON DELETE SET NULL
);
CREATE INDEX report_note_of ON report_note (report, id);
CREATE INDEX report_note_open ON report_note (made_at) WHERE state = 'open';
COMMENT ON TABLE report_note IS 'What was said of a report: comments on drafts, objections to what was published.';
COMMENT ON COLUMN report_note.about IS 'The line that an objection is about.';
COMMENT ON COLUMN report_note.revision IS 'The report that was drafted because of it.';

-- +goose Down
DROP TABLE report_note;
ALTER TABLE report DROP COLUMN approved_by, DROP COLUMN approved_at, DROP COLUMN approved_seen;
