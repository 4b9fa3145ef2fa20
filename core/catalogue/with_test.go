package catalogue_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"reflect"
	"slices"
	"testing"

	"kestite/core/catalogue"
	"kestite/core/span"
)

// records are random definitions by kind and id, some of which cannot be read.
type records struct {
	*rand.Rand
	of map[[2]string][]catalogue.Record
}

func (r *records) change() (changed []catalogue.Record) {
	kind := []string{catalogue.Service, catalogue.Check, catalogue.Check, catalogue.Customer, "unheard-of"}[r.IntN(5)]
	key := [2]string{kind, fmt.Sprintf("%s-%d", kind, r.IntN(12))}
	list := slices.Clone(r.of[key])
	if len(list) > 0 && r.IntN(3) == 0 {
		for i := range list {
			list[i].Retired = !list[i].Retired
		}
	} else {
		at := span.Instant(1000 * (len(list) + 1))
		if len(list) > 0 {
			list[len(list)-1].Until = &at
		}
		body := fmt.Sprintf(`{"name": "N%d", "service": "service-%d", "role": %q}`, r.IntN(99), r.IntN(4), []string{"decides", "informs"}[r.IntN(2)])
		if kind == catalogue.Customer {
			body = `{"name": "C"}`
		}
		if r.IntN(6) == 0 {
			body = `{"name": 7`
		}
		list = append(list, catalogue.Record{Kind: kind, ID: key[1], Number: len(list) + 1, From: at, Body: []byte(body)})
	}
	r.of[key] = list
	return list
}

func (r *records) all() (out []catalogue.Record) {
	keys := slices.SortedFunc(maps.Keys(r.of), func(a, b [2]string) int { return slices.Compare(a[:], b[:]) })
	for _, key := range keys {
		out = append(out, r.of[key]...)
	}
	return out
}

// fields are the exported fields of a snapshot.
func fields(s *catalogue.Snapshot) map[string]any {
	out := map[string]any{}
	v := reflect.ValueOf(s).Elem()
	for i := range v.NumField() {
		if f := v.Type().Field(i); f.IsExported() {
			out[f.Name] = v.Field(i).Interface()
		}
	}
	return out
}

// What is brought up to date is what would have been read anew, and what it was made
// from stays as it was.
func TestWithIsWhatNewMakesOfAll(t *testing.T) {
	for seed := range uint64(40) {
		r := &records{rand.New(rand.NewPCG(seed, 1)), map[[2]string][]catalogue.Record{}}
		for range 15 {
			r.change()
		}
		have := catalogue.New(r.all(), 10_000)
		for step := range 60 {
			before := fields(catalogue.New(r.all(), 10_000))
			var changed []catalogue.Record
			seen := map[string]bool{}
			for range 1 + r.IntN(4) {
				list := r.change()
				if key := list[0].Kind + list[0].ID; seen[key] {
					changed = slices.DeleteFunc(changed, func(c catalogue.Record) bool { return c.Kind+c.ID == key })
				} else {
					seen[key] = true
				}
				changed = append(changed, list...)
			}
			next := have.With(changed)
			if got, want := fields(next), fields(catalogue.New(r.all(), 10_000)); !reflect.DeepEqual(normal(got), normal(want)) {
				for name := range want {
					if !reflect.DeepEqual(got[name], want[name]) {
						t.Fatalf("seed %d, step %d: %s is\n%+v, not\n%+v", seed, step, name, got[name], want[name])
					}
				}
			}
			if !reflect.DeepEqual(normal(fields(have)), normal(before)) {
				t.Fatalf("seed %d, step %d: what it was made from changed", seed, step)
			}
			have = next
		}
	}
}

// normal makes no difference between an empty list and none.
func normal(m map[string]any) map[string]any {
	if list, is := m["Unreadable"].([]catalogue.Unreadable); is && len(list) == 0 {
		m["Unreadable"] = nil
	}
	return m
}
