-- +goose Up
CREATE TABLE signing_key (
    id         text PRIMARY KEY,
    public     bytea NOT NULL,
    sealed     bytea NOT NULL,
    made_at    timestamptz NOT NULL,
    made_by    text NOT NULL,
    retired_at timestamptz
);
COMMENT ON TABLE signing_key IS 'Ed25519 keys that published reports are signed with.';
COMMENT ON COLUMN signing_key.id IS 'First half of the SHA-256 of the public key, hexadecimal.';
COMMENT ON COLUMN signing_key.sealed IS 'The seed of the private key, encrypted with the server''s key file.';

CREATE TABLE blob (
    digest  text PRIMARY KEY,
    content bytea NOT NULL
);
COMMENT ON TABLE blob IS 'Files of published reports and frozen accounts, once each: gzipped, by the SHA-256 of what they are unpacked, hexadecimal.';

CREATE TABLE report_file (
    report uuid NOT NULL REFERENCES report,
    name   text NOT NULL,
    digest text NOT NULL REFERENCES blob,
    PRIMARY KEY (report, name)
);
COMMENT ON TABLE report_file IS 'The files of a published report, as its manifest names them.';

-- +goose StatementBegin
CREATE FUNCTION keep_blob() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    RAISE EXCEPTION 'what was published stays as it is';
END $$;
-- +goose StatementEnd
CREATE TRIGGER blob_kept BEFORE UPDATE OR DELETE ON blob FOR EACH ROW EXECUTE FUNCTION keep_blob();
CREATE TRIGGER report_file_kept BEFORE UPDATE OR DELETE ON report_file FOR EACH ROW EXECUTE FUNCTION keep_blob();

ALTER TABLE frozen_period ADD COLUMN measurements text REFERENCES blob;
COMMENT ON COLUMN frozen_period.measurements IS 'Digest of measurements.csv; null: not all were kept.';
ALTER TABLE report ADD COLUMN chain text, ADD COLUMN serial bigint, ADD COLUMN ledger bigint, ADD COLUMN entry text, ADD COLUMN manifest bytea, ADD COLUMN signature bytea,
    ADD CHECK ((chain IS NULL) = (serial IS NULL) AND (chain IS NULL) = (ledger IS NULL) AND (chain IS NULL) = (entry IS NULL) AND (chain IS NULL) = (manifest IS NULL));
CREATE UNIQUE INDEX report_serial ON report (chain, serial);
CREATE UNIQUE INDEX report_ledger ON report (ledger);
COMMENT ON COLUMN report.chain IS 'Id of the customer in whose chain it is, empty for internal ones; null: published before there were chains, or not published.';
COMMENT ON COLUMN report.serial IS 'Number in that chain, without a gap.';
COMMENT ON COLUMN report.ledger IS 'Number in the organisation''s ledger, without a gap; entry is the ledger''s digest with it.';
COMMENT ON COLUMN report.manifest IS 'As it is signed; signature is null where the server had no key.';

-- +goose Down
ALTER TABLE report DROP COLUMN chain, DROP COLUMN serial, DROP COLUMN ledger, DROP COLUMN entry, DROP COLUMN manifest, DROP COLUMN signature;
ALTER TABLE frozen_period DROP COLUMN measurements;
DROP TABLE report_file, blob, signing_key;
DROP FUNCTION keep_blob;
