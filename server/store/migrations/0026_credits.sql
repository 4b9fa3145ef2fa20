-- +goose Up
ALTER TABLE report ADD COLUMN credit jsonb;
COMMENT ON COLUMN report.credit IS 'What the content says is owed, once it is published; null: no fee was agreed.';

CREATE TABLE credit_entry (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    agreement  text NOT NULL,
    period     text NOT NULL,
    kind       text NOT NULL CHECK (kind IN ('claim', 'payment', 'waiver')),
    minor      bigint NOT NULL CHECK (minor > 0),
    currency   text NOT NULL,
    happened   text NOT NULL CHECK (happened ~ '^[0-9]{4}-[0-9]{2}-[0-9]{2}$'),
    reference  text NOT NULL DEFAULT '',
    note       text NOT NULL DEFAULT '',
    made_by    text NOT NULL,
    made_at    timestamptz NOT NULL,
    taken_back_by text,
    taken_back_at timestamptz,
    CHECK ((taken_back_by IS NULL) = (taken_back_at IS NULL))
);
CREATE INDEX credit_entry_of ON credit_entry (agreement, period, id);
COMMENT ON TABLE credit_entry IS 'What happened to credits: claims, payments, waivers. Never changed; one that was wrong is taken back and stays.';
COMMENT ON COLUMN credit_entry.minor IS 'Minor units of the currency.';
-- +goose StatementBegin
CREATE FUNCTION keep_credit_entry() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF TG_OP = 'DELETE' OR OLD.taken_back_at IS NOT NULL
        OR (NEW.agreement, NEW.period, NEW.kind, NEW.minor, NEW.currency, NEW.happened, NEW.reference, NEW.note, NEW.made_by, NEW.made_at)
           IS DISTINCT FROM (OLD.agreement, OLD.period, OLD.kind, OLD.minor, OLD.currency, OLD.happened, OLD.reference, OLD.note, OLD.made_by, OLD.made_at) THEN
        RAISE EXCEPTION 'an entry of the ledger stays as it was made; it can be taken back';
    END IF;
    RETURN NEW;
END $$;
-- +goose StatementEnd
CREATE TRIGGER credit_entry_kept BEFORE UPDATE OR DELETE ON credit_entry FOR EACH ROW EXECUTE FUNCTION keep_credit_entry();

-- +goose Down
DROP TABLE credit_entry;
DROP FUNCTION keep_credit_entry;
ALTER TABLE report DROP COLUMN credit;
