-- +goose Up
-- Days without hours can stand in lists that agreements share.
ALTER TABLE definition DROP CONSTRAINT definition_kind_check;
ALTER TABLE definition ADD CONSTRAINT definition_kind_check CHECK (kind IN ('location', 'service', 'check', 'agreement', 'window', 'adjustment',
    'network', 'credential', 'kit', 'pair-plan', 'team', 'customer', 'contract', 'holiday-list'));

-- +goose Down
-- The days of the lists become the agreements' own, so that their accounts stay what they are.
-- +goose StatementBegin
CREATE FUNCTION own_holidays(plan jsonb) RETURNS jsonb LANGUAGE sql STABLE AS $$
    SELECT jsonb_set(plan - 'holiday_lists', '{holidays}', coalesce((
        SELECT jsonb_agg(DISTINCT day ORDER BY day)
        FROM (
            SELECT jsonb_array_elements_text(coalesce(nullif(plan -> 'holidays', 'null'), '[]')) AS day
            UNION
            SELECT of_list ->> 'date'
            FROM jsonb_array_elements_text(plan -> 'holiday_lists') AS list
            JOIN LATERAL (SELECT body FROM revision r WHERE r.kind = 'holiday-list' AND r.id = list ORDER BY r.number DESC LIMIT 1) latest ON true,
            jsonb_array_elements(coalesce(nullif(latest.body -> 'days', 'null'), '[]')) AS of_list
        ) AS days), '[]'))
$$;
-- +goose StatementEnd
UPDATE revision SET body = jsonb_set(body, '{service_hours}', own_holidays(body -> 'service_hours'))
    WHERE kind = 'agreement' AND body -> 'service_hours' ? 'holiday_lists';
UPDATE revision SET body = jsonb_set(body, '{maintenance,within}', own_holidays(body #> '{maintenance,within}'))
    WHERE kind = 'agreement' AND body #> '{maintenance,within}' ? 'holiday_lists';
DROP FUNCTION own_holidays(jsonb);
DELETE FROM revision WHERE kind = 'holiday-list';
DELETE FROM definition WHERE kind = 'holiday-list';
ALTER TABLE definition DROP CONSTRAINT definition_kind_check;
ALTER TABLE definition ADD CONSTRAINT definition_kind_check CHECK (kind IN ('location', 'service', 'check', 'agreement', 'window', 'adjustment',
    'network', 'credential', 'kit', 'pair-plan', 'team', 'customer', 'contract'));
