package api_test

import (
	"net/http"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"kestite/core/access"
	"kestite/server/api"
	"kestite/server/servertest"
)

// publish drafts and publishes the report of a period.
func publish(t *testing.T, c *servertest.Client, agreement, period string) string {
	t.Helper()
	var drafted struct{ ID string }
	c.Must(http.MethodPost, "/reports", map[string]any{"agreement": agreement, "period": period}, &drafted)
	var page api.ReportPage
	c.Must(http.MethodGet, "/reports/"+drafted.ID, nil, &page)
	c.Must(http.MethodPost, "/reports/"+drafted.ID+"/publish", map[string]any{"seen": page.Seen}, nil)
	return drafted.ID
}

// creditsOf are the lines that somebody sees.
func creditsOf(t *testing.T, c *servertest.Client) []api.CreditLine {
	t.Helper()
	var out struct{ Items []api.CreditLine }
	c.Must(http.MethodGet, "/credits", nil, &out)
	return out.Items
}

// What a published report owes is claimed and paid once, whoever enters it how often; the
// contract's limits take what is above them, and a revision carries what was paid too much.
func TestCredits(t *testing.T) {
	f := setUp(t)
	contract := f.manager.Create("/contracts", map[string]any{"name": "Tickets", "customer": "passenger-division",
		"credits": map[string]any{"period_percent": "50", "claim_days": 30}})
	with := func(change func(map[string]any)) map[string]any {
		return agreement(f.service, func(s map[string]any) {
			s["from"], s["unmeasured"], s["contract"] = "2026-01-01", "down", contract
			s["fee"], s["credits"] = map[string]any{"amount": "333.33", "currency": "NOK"}, []any{map[string]any{"below_percent": "99.9", "credit_percent": "62.5"}}
			if change != nil {
				change(s)
			}
		})
	}
	id := f.manager.Create("/agreements", with(nil))
	now := inOslo(t)
	month := now.AddDate(0, 0, -now.Day())
	last, before := month.Format("2006-01"), month.AddDate(0, 0, -month.Day()).Format("2006-01")
	viewer, customer := servertest.As(t, f.srv, f.url, access.Viewer), servertest.With(t, f.srv, f.url, "quays", access.Rights{Role: access.Customer, Customer: "passenger-division"})
	f.manager.Create("/customers", map[string]any{"name": "Freight desk"})
	stranger := servertest.With(t, f.srv, f.url, "somebody", access.Rights{Role: access.Customer, Customer: "freight-desk"})
	if lines := creditsOf(t, f.manager); len(lines) != 0 {
		t.Fatalf("before anything is published: %+v", lines)
	}
	report := publish(t, f.manager, id, before)

	// 62.5 % of 333.33 are 208.33125, and half of it is the most.
	lines := creditsOf(t, customer)
	if len(lines) != 1 || lines[0].Owed != "208.33" || lines[0].Capped != "41.67" || lines[0].Due != "166.66" || lines[0].Open != "166.66" || lines[0].State != "due" ||
		lines[0].Why != "at most 50 % of the fees of a period" || lines[0].May || lines[0].Until != now.AddDate(0, 0, 30).Format(time.DateOnly) || lines[0].Report != report {
		t.Fatalf("%+v", lines)
	}
	if lines := creditsOf(t, stranger); len(lines) != 0 {
		t.Errorf("another customer sees %+v", lines)
	}
	enter := func(c *servertest.Client, kind, amount string, more ...string) servertest.Answer {
		body := map[string]any{"agreement": id, "period": before, "kind": kind, "amount": amount}
		for i := 0; i+1 < len(more); i += 2 {
			body[more[i]] = more[i+1]
		}
		return c.Do(http.MethodPost, "/credits/entries", body)
	}
	refused(t, "a viewer's payment", enter(viewer, "payment", "1.00"), 403, "publish")
	refused(t, "a customer's payment", enter(customer, "payment", "1.00"), 403, "publish")
	for _, bad := range []string{"0", "-1", "1e39", "NaN", "1,50", "1.005", "166.67", "99999999999999999999", "1\x00"} {
		refused(t, "an amount of "+bad, enter(f.manager, "payment", bad), 422, "amount")
	}
	refused(t, "a day to come", enter(f.manager, "claim", "1.00", "on", now.AddDate(0, 0, 1).Format(time.DateOnly)), 422, "not there yet")
	refused(t, "a period without a report", f.manager.Do(http.MethodPost, "/credits/entries", map[string]any{"agreement": id, "period": last, "kind": "claim", "amount": "1.00"}), 404, "")
	if a := enter(f.manager, "claim", "166.66", "reference", "LETTER-1"); a.Status >= 300 {
		t.Fatal(a)
	}

	// Six pay all of it at once.
	var wins sync.WaitGroup
	taken := make(chan int, 6)
	for range 6 {
		wins.Go(func() { taken <- enter(f.manager, "payment", "166.66").Status })
	}
	wins.Wait()
	close(taken)
	paid := 0
	for status := range taken {
		if status < 300 {
			paid++
		}
	}
	if line := creditsOf(t, f.manager)[0]; paid != 1 || line.Paid != "166.66" || line.Open != "0.00" || line.State != "paid" || len(line.Entries) != 2 {
		t.Fatalf("paid %d times: %+v", paid, line)
	}

	// An entry that was wrong is taken back, once, and stays to be seen.
	payment := creditsOf(t, f.manager)[0].Entries[1]
	back := func(c *servertest.Client) servertest.Answer {
		return c.Do(http.MethodDelete, "/credits/"+id+"/entries/"+itoa(payment.ID), nil)
	}
	refused(t, "taking back by a viewer", back(viewer), 403, "publish")
	if a := back(f.manager); a.Status >= 300 {
		t.Fatal(a)
	}
	refused(t, "taking back twice", back(f.manager), 404, "")
	if line := creditsOf(t, f.manager)[0]; line.Open != "166.66" || line.State != "claimed" || !line.Entries[1].TakenBack {
		t.Fatalf("taken back: %+v", line)
	}
	if a := enter(f.manager, "payment", "166.66"); a.Status >= 300 {
		t.Fatal(a)
	}

	// The terms are the contract's; another currency is refused at both ends.
	refused(t, "a fee in another currency", f.manager.Do(http.MethodPut, "/contracts/"+contract, f.manager.Edit("/contracts/"+contract, map[string]any{"name": "Tickets", "customer": "passenger-division",
		"credits": map[string]any{"year_amount": "10.00", "currency": "SEK"}})), 422, "the contract Tickets is in SEK, and the fee of Ticket sales is in NOK")
	refused(t, "an internal fee", f.manager.Do(http.MethodPost, "/agreements", map[string]any{"spec": with(func(s map[string]any) { s["customer"], s["contract"] = "", "" })}), 422, "internal target costs nothing")

	// What is published later is under the same limit; the export adds up as the page does.
	publish(t, f.manager, id, last)
	export := f.manager.Do(http.MethodGet, "/credits/export", nil)
	for _, want := range []string{"to-customer,Passenger division,,Tickets,Ticket sales," + before + ",NOK,333.33,62.5,208.33,41.67,0.00,166.66,166.66,166.66,0.00,0.00,", "," + last + ",NOK,333.33,62.5,208.33,41.67,0.00,166.66,0.00,0.00,0.00,166.66,"} {
		if !strings.Contains(string(export.Body), want) {
			t.Errorf("the export has no %q:\n%s", want, export.Body)
		}
	}
	if lines := creditsOf(t, f.manager); len(lines) != 2 {
		t.Errorf("%+v", lines)
	}
	var page api.ReportPage
	f.manager.Must(http.MethodGet, "/reports/"+report, nil, &page)
	if want := "A credit of 62.5 % of the fee of 333.33 NOK is owed to the customer: 208.33 NOK, before the limits of the contract."; page.CreditWords != want {
		t.Errorf("the report says %q", page.CreditWords)
	}
}

func itoa(n int64) string { return strconv.FormatInt(n, 10) }
