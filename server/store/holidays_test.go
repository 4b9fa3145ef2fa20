package store_test

import "testing"

// Going back to a version without lists, an agreement keeps their days as its own, so
// that its accounts stay what they are.
func TestDowngradeKeepsTheDaysOfLists(t *testing.T) {
	const with = 16
	db, provider, _ := atVersion(t, with)
	for _, text := range []string{
		"INSERT INTO definition (kind, id) VALUES ('holiday-list', 'rest'), ('agreement', 'gold'), ('agreement', 'plain')",
		`INSERT INTO revision (kind, id, number, valid_from, valid_until, body, made_by) VALUES ('holiday-list', 'rest', 1, now() - interval '2 day', now() - interval '1 day', '{"name": "Rest", "days": [{"date": "2020-01-01"}]}', 'x')`,
		`INSERT INTO revision (kind, id, number, valid_from, body, made_by) VALUES
			('holiday-list', 'rest', 2, now() - interval '1 day', '{"name": "Rest", "days": [{"date": "2026-12-25", "name": "Christmas"}, {"date": "2026-05-17"}]}', 'x'),
			('agreement', 'gold', 1, now(), '{"service_hours": {"timezone": "UTC", "holidays": ["2026-12-25", "2026-01-01"], "holiday_lists": ["rest"]}, "maintenance": {"mode": "exclude", "within": {"holidays": null, "holiday_lists": ["rest"]}}}', 'x'),
			('agreement', 'plain', 1, now(), '{"service_hours": {"holidays": ["2026-01-01"]}}', 'x')`,
	} {
		if _, err := db.ExecContext(t.Context(), text); err != nil {
			t.Fatal(text, err)
		}
	}
	if _, err := provider.DownTo(t.Context(), with-1); err != nil {
		t.Fatal(err)
	}
	var hours, within, plain string
	var lists int
	err := db.QueryRowContext(t.Context(), `SELECT (SELECT body ->> 'service_hours' FROM revision WHERE id = 'gold'),
		(SELECT body #>> '{maintenance,within}' FROM revision WHERE id = 'gold'), (SELECT body ->> 'service_hours' FROM revision WHERE id = 'plain'),
		(SELECT count(*) FROM revision WHERE kind = 'holiday-list')`).Scan(&hours, &within, &plain, &lists)
	if err != nil {
		t.Fatal(err)
	}
	if hours != `{"holidays": ["2026-01-01", "2026-05-17", "2026-12-25"], "timezone": "UTC"}` || within != `{"holidays": ["2026-05-17", "2026-12-25"]}` ||
		plain != `{"holidays": ["2026-01-01"]}` || lists != 0 {
		t.Errorf("hours %s, work %s, another's %s; %d lists", hours, within, plain, lists)
	}
}
