-- +goose Up
CREATE TABLE volume (
    id        uuid PRIMARY KEY DEFAULT gen_random_uuid(),
    kind      text NOT NULL CHECK (kind IN ('contract', 'customer', 'all')),
    subject   text NOT NULL,
    band      text NOT NULL,
    made_at   timestamptz NOT NULL,
    made_by   text NOT NULL,
    content   json NOT NULL,
    digest    text NOT NULL,
    pdf       bytea NOT NULL,
    page      bytea NOT NULL,
    workbook  bytea NOT NULL
);
COMMENT ON TABLE volume IS 'Published reports of one period side by side in one document: kept as they were made, and never made again.';
COMMENT ON COLUMN volume.subject IS 'Id of the contract or customer; empty: the whole organisation.';
CREATE TRIGGER volume_kept BEFORE UPDATE OR DELETE ON volume FOR EACH ROW EXECUTE FUNCTION keep_blob();

-- +goose Down
DROP TABLE volume;
