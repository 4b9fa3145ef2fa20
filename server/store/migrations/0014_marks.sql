-- +goose Up
-- Who has seen a number of definition_mark asks only for what has changed since. A
-- transaction has one number, and holds the row until it ends: numbers are given in the
-- order in which what they stand for can be seen.
ALTER TABLE definition_mark ADD COLUMN tx xid8, ADD COLUMN whole bigint NOT NULL DEFAULT 0;
COMMENT ON COLUMN definition_mark.tx IS 'The transaction that the number was given to.';
COMMENT ON COLUMN definition_mark.whole IS 'Number of the last change that took something away: who has seen less reads everything.';
ALTER TABLE definition ADD COLUMN mark bigint NOT NULL DEFAULT 0;
CREATE INDEX definition_by_mark ON definition (mark);
COMMENT ON COLUMN definition.mark IS 'Number of definition_mark at the last change of it or of its revisions.';

DROP TRIGGER organisation_changed ON organisation;
DROP TRIGGER revision_changed ON revision;
DROP TRIGGER definition_changed ON definition;
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION count_definition_change() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    UPDATE definition_mark SET number = number + 1, tx = pg_current_xact_id() WHERE tx IS DISTINCT FROM pg_current_xact_id();
    IF TG_OP IN ('DELETE', 'TRUNCATE') THEN
        UPDATE definition_mark SET whole = number WHERE whole <> number;
    END IF;
    RETURN NULL;
END $$;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE FUNCTION mark_definition() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF TG_TABLE_NAME = 'definition' THEN
        SELECT number INTO NEW.mark FROM definition_mark;
        RETURN NEW;
    END IF;
    UPDATE definition d SET mark = m.number FROM definition_mark m WHERE d.kind = NEW.kind AND d.id = NEW.id AND d.mark <> m.number;
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER organisation_changed BEFORE INSERT OR UPDATE OR DELETE ON organisation FOR EACH STATEMENT EXECUTE FUNCTION count_definition_change();
CREATE TRIGGER definition_changed BEFORE INSERT OR UPDATE OR DELETE ON definition FOR EACH STATEMENT EXECUTE FUNCTION count_definition_change();
CREATE TRIGGER revision_changed BEFORE INSERT OR UPDATE OR DELETE ON revision FOR EACH STATEMENT EXECUTE FUNCTION count_definition_change();
CREATE TRIGGER definition_marked BEFORE INSERT OR UPDATE ON definition FOR EACH ROW EXECUTE FUNCTION mark_definition();
CREATE TRIGGER revision_marked AFTER INSERT OR UPDATE ON revision FOR EACH ROW EXECUTE FUNCTION mark_definition();

-- +goose Down
DROP TRIGGER revision_marked ON revision;
DROP TRIGGER definition_marked ON definition;
DROP TRIGGER revision_changed ON revision;
DROP TRIGGER definition_changed ON definition;
DROP TRIGGER organisation_changed ON organisation;
DROP FUNCTION mark_definition;
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION count_definition_change() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    UPDATE definition_mark SET number = number + 1;
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER definition_changed AFTER INSERT OR UPDATE OR DELETE ON definition FOR EACH STATEMENT EXECUTE FUNCTION count_definition_change();
CREATE TRIGGER revision_changed AFTER INSERT OR UPDATE OR DELETE ON revision FOR EACH STATEMENT EXECUTE FUNCTION count_definition_change();
CREATE TRIGGER organisation_changed AFTER INSERT OR UPDATE OR DELETE ON organisation FOR EACH STATEMENT EXECUTE FUNCTION count_definition_change();
DROP INDEX definition_by_mark;
ALTER TABLE definition DROP COLUMN mark;
ALTER TABLE definition_mark DROP COLUMN tx, DROP COLUMN whole;
