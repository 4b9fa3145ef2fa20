-- +goose Up

-- +goose StatementBegin
CREATE FUNCTION person_called(who text) RETURNS text LANGUAGE sql STABLE AS $$
    SELECT coalesce((
        SELECT CASE WHEN p.erased_at IS NULL THEN p.name ELSE 'erased person ' || left(who, 8) END
        FROM person p WHERE p.id = CASE WHEN who ~ '^[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}$' THEN who::uuid END), who)
$$;
-- +goose StatementEnd
COMMENT ON FUNCTION person_called IS 'What a person is called today who is kept by id; of somebody kept by name (the console, people from before ids), that.';

-- Names that one person alone has become that person's id.
-- +goose StatementBegin
DO $$
DECLARE p record;
BEGIN
    FOR p IN SELECT name, min(id::text) AS id FROM person WHERE erased_at IS NULL GROUP BY name HAVING count(*) = 1 LOOP
        UPDATE revision SET made_by = p.id WHERE made_by = p.name;
        UPDATE agent SET created_by = p.id WHERE created_by = p.name;
        UPDATE secret SET changed_by = p.id WHERE changed_by = p.name;
        UPDATE report_in SET made_by = p.id WHERE made_by = p.name;
        UPDATE report SET made_by = p.id WHERE made_by = p.name AND state = 'draft';
        UPDATE trial SET made_by = p.id WHERE made_by = p.name;
    END LOOP;
END $$;
-- +goose StatementEnd
COMMENT ON COLUMN revision.made_by IS 'Id of a person, or what to call who is none.';

-- +goose Down
UPDATE revision SET made_by = person_called(made_by);
UPDATE agent SET created_by = person_called(created_by);
UPDATE secret SET changed_by = person_called(changed_by);
UPDATE report_in SET made_by = person_called(made_by);
UPDATE report SET made_by = person_called(made_by) WHERE state = 'draft';
UPDATE trial SET made_by = person_called(made_by);
DROP FUNCTION person_called;
