-- +goose Up
-- Customers and the teams that own services become definitions of their own. Revisions
-- from before named them by free text; they say ids from now on.
ALTER TABLE definition DROP CONSTRAINT definition_kind_check;
ALTER TABLE definition ADD CONSTRAINT definition_kind_check CHECK (kind IN ('location', 'service', 'check', 'agreement', 'window', 'adjustment',
    'network', 'credential', 'kit', 'pair-plan', 'team', 'customer'));

-- +goose StatementBegin
CREATE FUNCTION pg_temp.parties(of_kind text, field text, becomes text) RETURNS void LANGUAGE plpgsql AS $$
DECLARE
    p record;
    slug text;
    fresh text;
    n int;
BEGIN
    FOR p IN
        SELECT btrim(r.body ->> field) AS name, min(r.valid_from) AS since, (array_agg(r.made_by ORDER BY r.valid_from, r.id))[1] AS made_by
        FROM revision r WHERE r.kind = of_kind AND btrim(coalesce(r.body ->> field, '')) <> '' GROUP BY 1 ORDER BY 1
    LOOP
        slug := coalesce(nullif(btrim(left(regexp_replace(lower(p.name), '[^a-z0-9]+', '-', 'g'), 40), '-'), ''), becomes);
        fresh := slug;
        n := 1;
        WHILE EXISTS (SELECT 1 FROM definition d WHERE d.kind = becomes AND d.id = fresh) LOOP
            n := n + 1;
            fresh := slug || '-' || n;
        END LOOP;
        INSERT INTO definition (kind, id, created_at) VALUES (becomes, fresh, p.since);
        INSERT INTO revision (kind, id, number, valid_from, body, made_by, reason)
            VALUES (becomes, fresh, 1, p.since, jsonb_build_object('name', left(p.name, 120)), p.made_by, 'Named in what was defined before');
        UPDATE revision SET body = jsonb_set(body, ARRAY[field], to_jsonb(fresh)) WHERE kind = of_kind AND btrim(coalesce(body ->> field, '')) = p.name;
    END LOOP;
    UPDATE revision SET body = jsonb_set(body, ARRAY[field], '""') WHERE kind = of_kind AND body ? field AND btrim(coalesce(body ->> field, '')) = '';
END $$;
-- +goose StatementEnd
SELECT pg_temp.parties('agreement', 'customer', 'customer');
SELECT pg_temp.parties('service', 'owner', 'team');
DROP FUNCTION pg_temp.parties(text, text, text);

ALTER TABLE person DROP CONSTRAINT person_role_check;
ALTER TABLE person ADD CONSTRAINT person_role_check CHECK (role IN ('administrator', 'manager', 'approver', 'operator', 'viewer', 'customer'));
ALTER TABLE person ADD COLUMN customer text NOT NULL DEFAULT '', ADD COLUMN teams text[] NOT NULL DEFAULT '{}';
ALTER TABLE person ADD CONSTRAINT person_customer CHECK ((role = 'customer') = (customer <> ''));
COMMENT ON COLUMN person.customer IS 'Whom a person with the role customer belongs to, by id.';
COMMENT ON COLUMN person.teams IS 'What they may change is limited to the services of these teams; empty: not limited.';

-- +goose Down
-- Versions before know no approvers and customers: those can only look, and not sign in.
UPDATE person SET disabled_at = coalesce(disabled_at, now()) WHERE role = 'customer';
ALTER TABLE person DROP CONSTRAINT person_customer, DROP COLUMN customer, DROP COLUMN teams, DROP CONSTRAINT person_role_check;
UPDATE person SET role = 'viewer' WHERE role IN ('approver', 'customer');
ALTER TABLE person ADD CONSTRAINT person_role_check CHECK (role IN ('administrator', 'manager', 'operator', 'viewer'));
UPDATE revision r SET body = jsonb_set(r.body, '{customer}', to_jsonb(c.body ->> 'name')) FROM revision c
WHERE r.kind = 'agreement' AND c.kind = 'customer' AND c.id = r.body ->> 'customer' AND c.valid_until IS NULL;
UPDATE revision r SET body = jsonb_set(r.body, '{owner}', to_jsonb(c.body ->> 'name')) FROM revision c
WHERE r.kind = 'service' AND c.kind = 'team' AND c.id = r.body ->> 'owner' AND c.valid_until IS NULL;
DELETE FROM revision WHERE kind IN ('team', 'customer');
DELETE FROM definition WHERE kind IN ('team', 'customer');
ALTER TABLE definition DROP CONSTRAINT definition_kind_check;
ALTER TABLE definition ADD CONSTRAINT definition_kind_check CHECK (kind IN ('location', 'service', 'check', 'agreement', 'window', 'adjustment',
    'network', 'credential', 'kit', 'pair-plan'));
