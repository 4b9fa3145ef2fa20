-- +goose Up
-- The open stretch of a lane lives with the lane until it ends; what tables hold of it is
-- older, and is overwritten then.
ALTER TABLE lane ALTER COLUMN machine DROP DEFAULT;
ALTER TABLE lane ALTER COLUMN machine TYPE bytea USING convert_to(machine::text, 'UTF8');
ALTER TABLE lane ALTER COLUMN machine SET DEFAULT '';
ALTER TABLE lane ADD COLUMN ended bigint NOT NULL DEFAULT 0;
COMMENT ON COLUMN lane.machine IS 'The series, the open stretch and the latest raw measurement (server/lanes).';
COMMENT ON COLUMN lane.ended IS 'Grows whenever a stretch ended, or one that had ended changed: who knows those need not read them again.';
COMMENT ON TABLE stretch IS 'Maximal runs of equal judged state and outcome without a gap, those that ended; accounts follow from these and from the open one.';

-- +goose Down
-- +goose StatementBegin
DO $$ BEGIN
    IF EXISTS (SELECT 1 FROM lane WHERE machine <> '' AND get_byte(machine, 0) <> 123) THEN
        RAISE EXCEPTION 'earlier versions cannot read the lanes that this one wrote; restore a backup from before';
    END IF;
END $$;
-- +goose StatementEnd
ALTER TABLE lane DROP COLUMN ended;
ALTER TABLE lane ALTER COLUMN machine DROP DEFAULT;
ALTER TABLE lane ALTER COLUMN machine TYPE jsonb USING CASE WHEN machine = '' THEN '{}' ELSE convert_from(machine, 'UTF8')::jsonb END;
ALTER TABLE lane ALTER COLUMN machine SET DEFAULT '{}';
