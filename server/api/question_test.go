package api

import (
	"context"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/go-chi/chi/v5"

	"kestite/core/access"
	"kestite/server/auth"
)

// One answer is made for those alone who may see the same: not for another customer, and
// not for somebody who still lacks a second factor that is required.
func TestEqualQuestionsAreOfThoseWhoSeeTheSame(t *testing.T) {
	s := &Server{costly: map[string]bool{"GET /api/v1/standing": true}}
	ask := func(p auth.Person, url string) string {
		t.Helper()
		r := httptest.NewRequest(http.MethodGet, url, nil)
		route := chi.NewRouteContext()
		route.RoutePatterns = []string{"/api/v1/standing"}
		ctx := context.WithValue(r.Context(), chi.RouteCtxKey, route)
		key, costly := s.question(r.WithContext(context.WithValue(ctx, askingKey{}, asker{person: p, in: true})))
		if !costly {
			t.Fatal("it costs nothing")
		}
		return key
	}
	person := func(id string, role access.Role, customer string, secured bool) auth.Person {
		return auth.Person{ID: id, Rights: access.Rights{Role: role, Customer: customer}, Secured: secured}
	}
	const url = "/api/v1/standing?span=2026-11"
	one := ask(person("a", access.Viewer, "", true), url)
	if other := ask(person("b", access.Viewer, "", true), url); other != one {
		t.Errorf("two viewers ask %q and %q", one, other)
	}
	seen := map[string]string{one: "a viewer"}
	for what, key := range map[string]string{
		"another period":            ask(person("a", access.Viewer, "", true), "/api/v1/standing?span=2026-10"),
		"an operator":               ask(person("a", access.Operator, "", true), url),
		"without the second factor": ask(person("a", access.Viewer, "", false), url),
		"a customer":                ask(person("a", access.Customer, "port", true), url),
		"another customer":          ask(person("a", access.Customer, "freight", true), url),
	} {
		if as := seen[key]; as != "" {
			t.Errorf("%s shares the answer of %s", what, as)
		}
		seen[key] = what
	}
}
