package closing

import (
	"cmp"
	"context"
	"crypto/sha256"
	"time"

	"github.com/jackc/pgx/v5"

	"kestite/core/access"
	"kestite/core/catalogue"
	"kestite/core/definition"
	"kestite/server/attached"
	"kestite/server/notifying"
	"kestite/server/store/gen/db"
	"kestite/server/trail"
)

// mostFiles is how many files one close has at most.
const mostFiles = 100

// presence is how long somebody counts as there after they were last seen.
const presence = 45 * time.Second

// forgotten is how long a visit is kept.
const forgotten = time.Hour

// Owner is who sees to it that a period is closed; nil: nobody.
type Owner struct {
	Person, Name string
	At           time.Time
}

func (d *Desk) owner(ctx context.Context, of Period) (*Owner, error) {
	rows, err := d.Store.CloseOwners(ctx, db.CloseOwnersParams{Agreements: []string{of.Agreement}, Periods: []string{of.Name}})
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	return &Owner{rows[0].Person, rows[0].Name, rows[0].SetAt}, nil
}

// Own says who sees to it that a period is closed; empty: nobody. Somebody else than who says
// so is told. The error is a *definition.Fault where that person may not answer, or ErrFrozen.
func (d *Desk) Own(ctx context.Context, of Period, person string, by trail.By) error {
	snap, err := d.Definitions.Snapshot(ctx)
	if err != nil {
		return err
	}
	return d.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		if err := d.unsettled(ctx, tx, q, of); err != nil {
			return err
		}
		if person == "" {
			if n, err := q.DropCloseOwner(ctx, db.DropCloseOwnerParams{Agreement: of.Agreement, Period: of.Name}); err != nil || n == 0 {
				return err
			}
			return d.told(ctx, tx, q, by, "own close", of, map[string]any{"owner": ""})
		}
		may, err := notifying.WhoMay(ctx, q, "", func(id string, rights access.Rights) bool {
			return id == person && rights.Over(snap, access.Operate, snap.ServiceOf(of.Agreement)) == nil
		})
		if err != nil {
			return err
		}
		if len(may) == 0 {
			return definition.Faultf("person", "is nobody who may answer its questions; take an operator or a manager")
		}
		if err := q.SetCloseOwner(ctx, db.SetCloseOwnerParams{Agreement: of.Agreement, Period: of.Name, Person: person, SetBy: by.Kept(), SetAt: d.Now()}); err != nil {
			return err
		}
		if person != by.Person && d.Notices != nil {
			name := snap.Named(catalogue.Agreement, of.Agreement)
			if err := d.Notices.Say(ctx, q, []string{person}, "close/"+of.Agreement+"/"+of.Name+"/"+person+"/"+d.Now().Format(time.RFC3339Nano), "Yours to close: "+name+", "+of.Name,
				by.Name+" gave you its close.\n\n"+d.Notices.URL()+"/close/"+of.Agreement+"?period="+of.Name); err != nil {
				return err
			}
		}
		return d.told(ctx, tx, q, by, "own close", of, map[string]any{"owner": person})
	})
}

// Visit notes that somebody has a close on the screen, and returns who else has.
func (d *Desk) Visit(ctx context.Context, of Period, person string) ([]string, error) {
	now := d.Now()
	if err := d.Store.VisitClose(ctx, db.VisitCloseParams{Agreement: of.Agreement, Period: of.Name, Person: person, SeenAt: now}); err != nil {
		return nil, err
	}
	if err := d.Store.ForgetVisits(ctx, db.ForgetVisitsParams{Person: person, Before: now.Add(-forgotten)}); err != nil {
		return nil, err
	}
	rows, err := d.Store.CloseVisitors(ctx, db.CloseVisitorsParams{Agreement: of.Agreement, Period: of.Name, Since: now.Add(-presence)})
	out := []string{}
	for _, r := range rows {
		if r.Person != person {
			out = append(out, r.Name)
		}
	}
	return out, err
}

// Attach keeps a file with the question of a close. The error is a *definition.Fault,
// ErrFrozen, or ErrMoved where that is not asked any more.
func (d *Desk) Attach(ctx context.Context, of Period, key, name string, content []byte, by trail.By) error {
	name, kind, err := attached.Taken(name, content)
	if err != nil {
		return err
	}
	c, err := d.Look(ctx, of)
	if err != nil {
		return err
	}
	asked := false
	for _, q := range c.Questions {
		asked = asked || q.Key == key
	}
	if !asked {
		return ErrMoved
	}
	digest := sha256.Sum256(content)
	return d.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		if err := d.unsettled(ctx, tx, q, of); err != nil {
			return err
		}
		files, err := q.CloseFiles(ctx, db.CloseFilesParams{Agreement: of.Agreement, Period: of.Name})
		if err != nil {
			return err
		}
		if len(files) >= mostFiles {
			return definition.Faultf("content", "is one too many: %d files are the most of one close", mostFiles)
		}
		if err := q.AddCloseFile(ctx, db.AddCloseFileParams{Agreement: of.Agreement, Period: of.Name, Key: key, Name: name, Type: kind, Digest: digest[:], Content: content, MadeBy: by.Kept(), MadeAt: d.Now()}); err != nil {
			return err
		}
		return d.told(ctx, tx, q, by, "attach to close", of, map[string]any{"key": key, "file": name})
	})
}

// Detach takes a file away again, before the account is frozen.
func (d *Desk) Detach(ctx context.Context, of Period, id int64, by trail.By) error {
	return d.Store.Tx(ctx, func(tx pgx.Tx, q *db.Queries) error {
		if err := d.unsettled(ctx, tx, q, of); err != nil {
			return err
		}
		n, err := q.DropCloseFile(ctx, db.DropCloseFileParams{Agreement: of.Agreement, Period: of.Name, ID: id})
		if err != nil || n == 0 {
			return cmp.Or(err, catalogue.ErrNotFound)
		}
		return d.told(ctx, tx, q, by, "detach from close", of, map[string]any{"file": id})
	})
}
