// Package trail writes down what was done, by whom and from where. What is
// written is never changed; names are not in it, but the ids of those who have them.
package trail

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"

	"kestite/server/store/gen/db"
)

// By is who does something.
type By struct {
	Person string // id; empty where it is nobody known
	Name   string // as it stands beside what they made
	Source string // network address
}

// Kept is how they are kept beside what they made: by id, or by name where they
// are no person that is known.
func (b By) Kept() string { return cmp.Or(b.Person, b.Name) }

// Console is who works on the server's own command line.
var Console = By{Name: "the console"}

// Nobody is who is not signed in.
func Nobody(source string) By { return By{Name: "nobody signed in", Source: source} }

// Entry is one deed.
type Entry struct {
	By
	Action  string
	Subject string // what it was done to: a kind and an id, "service ticket-sales"
	Before  any    // what was there before; nil where nothing was changed
	Detail  any    // what is there since, or what was asked for; nil: nothing to say
}

// Add writes an entry down. Values of people (names, e-mail addresses) and secrets
// do not belong into it.
func Add(ctx context.Context, q *db.Queries, e Entry) error {
	row := db.AddTrailParams{Action: e.Action, Subject: e.Subject, Source: e.Source, Detail: json.RawMessage("{}")}
	if e.Person != "" {
		row.PersonID = &e.Person
	} else {
		row.Actor = e.Name
	}
	var err error
	if e.Before != nil {
		if row.Before, err = json.Marshal(e.Before); err != nil {
			return fmt.Errorf("write the trail: %w", err)
		}
	}
	if e.Detail != nil {
		if row.Detail, err = json.Marshal(e.Detail); err != nil {
			return fmt.Errorf("write the trail: %w", err)
		}
	}
	if err := q.AddTrail(ctx, row); err != nil {
		return fmt.Errorf("write the trail: %w", err)
	}
	return nil
}
