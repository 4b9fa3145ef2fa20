package api_test

import (
	"net/http"
	"strings"
	"sync"
	"testing"

	"kestite/core/access"
	"kestite/server/api"
	"kestite/server/servertest"
)

// A customer's reports are approved by a second person as they read: not by who drafted
// them, not what has changed since, and nothing is published before.
func TestADraftIsApproved(t *testing.T) {
	f, id, month, _, _ := closeOf(t)
	f.manager.Must(http.MethodPut, "/customers/passenger-division", f.manager.Edit("/customers/passenger-division", map[string]any{"name": "Passenger division", "report_approval": true}), nil)
	approver, viewer := servertest.As(t, f.srv, f.url, access.Approver), servertest.As(t, f.srv, f.url, access.Viewer)
	var drafted struct{ ID string }
	f.manager.Must(http.MethodPost, "/reports", map[string]any{"agreement": id, "period": month}, &drafted)
	path := "/reports/" + drafted.ID
	page := func(c *servertest.Client) (out api.ReportPage) {
		t.Helper()
		c.Must(http.MethodGet, path, nil, &out)
		return out
	}
	read := page(f.manager)
	if read.Approval == nil || read.Approval.Current || read.May.Approve || !read.May.Publish || !page(approver).May.Approve {
		t.Fatalf("%+v %+v", read.Approval, read.May)
	}
	seen := map[string]any{"seen": read.Seen}
	refused(t, "publishing what nobody approved", f.manager.Do(http.MethodPost, path+"/publish", seen), 422, "nobody has approved it")
	refused(t, "approving one's own draft", f.manager.Do(http.MethodPost, path+"/approval", seen), 422, "a second person does")
	refused(t, "approving by a viewer", viewer.Do(http.MethodPost, path+"/approval", seen), 403, "approve what others ask for")
	refused(t, "approving what was not read", approver.Do(http.MethodPost, path+"/approval", map[string]any{"seen": "x"}), 409, "something else")
	refused(t, "a comment of a viewer", viewer.Do(http.MethodPost, path+"/comments", map[string]any{"text": "x"}), 403, "see drafts")
	approver.Must(http.MethodPost, path+"/comments", map[string]any{"text": "Say why nothing was measured."}, nil)

	// The remark changes what was approved.
	approver.Must(http.MethodPost, path+"/approval", seen, nil)
	f.manager.Must(http.MethodPut, path, map[string]any{"remark": "Measuring began later."}, nil)
	read = page(f.manager)
	if read.Approval.Current || read.Approval.By == "" || len(read.Notes) != 1 || read.Notes[0].Text != "Say why nothing was measured." {
		t.Fatalf("%+v %+v", read.Approval, read.Notes)
	}
	refused(t, "publishing what changed since", f.manager.Do(http.MethodPost, path+"/publish", map[string]any{"seen": read.Seen}), 422, "approved again")
	second := servertest.With(t, f.srv, f.url, "second", access.Rights{Role: access.Manager})
	second.Must(http.MethodPost, path+"/approval", map[string]any{"seen": read.Seen}, nil)
	refused(t, "publishing what one approved", second.Do(http.MethodPost, path+"/publish", map[string]any{"seen": read.Seen}), 422, "somebody else publishes it")
	if page(second).May.Publish || !page(f.manager).May.Publish {
		t.Error("who approved it is offered to publish it, or nobody is")
	}
	f.manager.Must(http.MethodPost, path+"/publish", map[string]any{"seen": read.Seen}, nil)
	refused(t, "approving what is published", approver.Do(http.MethodPost, path+"/approval", map[string]any{"seen": read.Seen}), 409, "no draft any more")
}

// Who received a report objects to a line of it, and is answered once: it stands, or a
// revision is drafted. Strangers do neither, and comments stay inside.
func TestAnObjection(t *testing.T) {
	f, id, month, _, _ := closeOf(t)
	report := publish(t, f.manager, id, month)
	f.manager.Create("/customers", map[string]any{"name": "Freight desk"})
	customer := servertest.With(t, f.srv, f.url, "tove", access.Rights{Role: access.Customer, Customer: "passenger-division"})
	stranger := servertest.With(t, f.srv, f.url, "stranger", access.Rights{Role: access.Customer, Customer: "freight-desk"})
	viewer := servertest.As(t, f.srv, f.url, access.Viewer)
	path := "/reports/" + report
	object := func(c *servertest.Client, text string) servertest.Answer {
		return c.Do(http.MethodPost, path+"/objections", map[string]any{"about": "Down", "text": text})
	}
	refused(t, "a stranger's objection", object(stranger, "x"), 404, "")
	refused(t, "a viewer's objection", object(viewer, "x"), 403, "publish")
	refused(t, "an objection without words", object(customer, " \n"), 422, "say what is wrong")
	refused(t, "a comment of a customer", customer.Do(http.MethodPost, path+"/comments", map[string]any{"text": "x"}), 403, "see drafts")
	f.manager.Must(http.MethodPost, path+"/comments", map[string]any{"text": "Between us."}, nil)
	var first, second api.Noted
	customer.Must(http.MethodPost, path+"/objections", map[string]any{"about": "Down", "text": "It was down on the 9th."}, &first)
	customer.Must(http.MethodPost, path+"/objections", map[string]any{"text": "And on the 10th."}, &second)

	var page api.ReportPage
	customer.Must(http.MethodGet, path, nil, &page)
	if len(page.Notes) != 2 || page.Notes[0].State != "open" || !page.Notes[0].Mine || page.May.Answer || !page.May.Object {
		t.Fatalf("a customer sees %+v, may %+v", page.Notes, page.May)
	}
	standing := string(f.manager.Do(http.MethodGet, "/standing", nil).Body)
	if !strings.Contains(standing, "an objection to the report of") {
		t.Errorf("Standing does not say it: %s", standing)
	}
	end := func(c *servertest.Client, note int64, state, answer string) servertest.Answer {
		return c.Do(http.MethodPost, path+"/objections/"+itoa(note)+"/end", map[string]any{"state": state, "answer": answer})
	}
	refused(t, "an answer of the customer", end(customer, first.ID, "stands", "x"), 403, "publish")
	refused(t, "an answer without words", end(f.manager, first.ID, "stands", ""), 422, "say why")
	refused(t, "taking back another's", end(f.manager, first.ID, "withdrawn", ""), 422, "only who objected")
	refused(t, "an answer to nothing", end(f.manager, 99999, "revised", "x"), 404, "")

	// Six answer at once.
	var wins sync.WaitGroup
	taken := make(chan int, 6)
	for range 6 {
		wins.Go(func() { taken <- end(f.manager, first.ID, "stands", "The log shows it up.").Status })
	}
	wins.Wait()
	close(taken)
	done := 0
	for status := range taken {
		if status < 300 {
			done++
		}
	}
	if done != 1 {
		t.Errorf("answered %d times", done)
	}
	var revised api.Noted
	f.manager.Must(http.MethodPost, path+"/objections/"+itoa(second.ID)+"/end", map[string]any{"state": "revised", "answer": "It was."}, &revised)
	customer.Must(http.MethodGet, path, nil, &page)
	if page.Notes[0].State != "stands" || page.Notes[1].State != "revised" || page.Notes[1].Revision != revised.Revision || revised.Revision == "" {
		t.Errorf("%+v", page.Notes)
	}
	if a := end(customer, second.ID, "withdrawn", ""); a.Status != 422 {
		t.Errorf("taking back what has ended: %s", a)
	}

	// A time to object.
	f.manager.Must(http.MethodPut, "/customers/passenger-division", f.manager.Edit("/customers/passenger-division", map[string]any{"name": "Passenger division", "objection_days": 3650}), nil)
	if a := object(customer, "In time."); a.Status >= 300 {
		t.Error(a)
	}
}
