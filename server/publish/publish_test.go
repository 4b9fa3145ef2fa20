package publish_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"reflect"
	"strings"
	"testing"
	"time"

	"kestite/core/account"
	"kestite/core/definition"
	"kestite/core/span"
	"kestite/core/verdict"
	"kestite/demo"
	"kestite/server/publish"
	"kestite/server/report"
	"kestite/server/servertest"
	"kestite/server/store/storetest"
	"kestite/server/trail"
)

func TestMain(m *testing.M) { storetest.Main(m) }

var ctx = context.Background()

// The demo's history is loaded once; every check on reports is made on it.
func TestReportsAreFrozenWithWhatTheyWereMadeFrom(t *testing.T) {
	srv := storetest.Server(t)
	now := storetest.Now()
	began := storetest.Now()
	if err := demo.Load(ctx, srv, 5, func(string) {}); err != nil {
		t.Fatal(err)
	}
	t.Logf("six months loaded in %s", storetest.Now().Sub(began).Round(time.Millisecond))
	desk := srv.API.Desk
	zone, err := time.LoadLocation(demo.Zone)
	if err != nil {
		t.Fatal(err)
	}
	here := now.In(zone)
	month := here.AddDate(0, 0, -here.Day()).Format("2006-01") // the last that is over there

	id, err := desk.Draft(ctx, "tickets-passenger", month, "A remark.", trail.By{Name: "Mikkel Brand"}, now)
	if err != nil {
		t.Fatal(err)
	}
	if again, err := desk.Draft(ctx, "tickets-passenger", month, "", trail.By{Name: "Mikkel Brand"}, now); err != nil || again != id {
		t.Errorf("a second draft beside the open one: %s, %v", again, err)
	}
	if err := desk.Publish(ctx, id, "", trail.By{Name: "Mikkel Brand"}, now); err != nil {
		t.Fatal(err)
	}
	if err := desk.Publish(ctx, id, "", trail.By{Name: "Mikkel Brand"}, now); !errors.Is(err, publish.ErrPublished) {
		t.Errorf("published twice: %v", err)
	}
	row, err := srv.API.Store.Report(ctx, id)
	if err != nil {
		t.Fatal(err)
	}

	t.Run("the row cannot be changed", func(t *testing.T) {
		for _, sql := range []string{"UPDATE report SET remark = 'x' WHERE id = $1", "DELETE FROM report WHERE id = $1"} {
			if _, err := srv.API.Store.Pool.Exec(ctx, sql, id); err == nil || !strings.Contains(err.Error(), "frozen") {
				t.Errorf("%s: %v", sql, err)
			}
		}
	})
	t.Run("the digest is that of what is stored", func(t *testing.T) {
		if got := report.Digest(row.Content, row.Inputs); got != *row.Digest {
			t.Errorf("digest %s, stored %s", got, *row.Digest)
		}
	})
	var content report.Content
	if err := json.Unmarshal(row.Content, &content); err != nil {
		t.Fatal(err)
	}
	t.Run("the inputs give the same account", func(t *testing.T) {
		z, err := gzip.NewReader(bytes.NewReader(row.Inputs))
		if err != nil {
			t.Fatal(err)
		}
		var in report.Inputs
		if err := json.NewDecoder(z).Decode(&in); err != nil {
			t.Fatal(err)
		}
		compiled, err := definition.Compile(in.Bundle)
		if err != nil {
			t.Fatal(err)
		}
		lanes := map[string][]verdict.Stretch{}
		for _, l := range in.Stretches {
			lanes[l.Check+" "+l.Location] = l.Stretches
		}
		list, err := account.NewEvidence(compiled, func(c, l string) []verdict.Stretch { return lanes[c+" "+l] }, nil).All()
		if err != nil {
			t.Fatal(err)
		}
		want, _ := json.Marshal(content.Account)
		got, _ := json.Marshal(list[0])
		if !bytes.Equal(got, want) {
			t.Errorf("got  %s\nwant %s", got, want)
		}
	})
	t.Run("the PDF says the figures", func(t *testing.T) {
		text := servertest.PDFText(t, row.Document)
		for _, word := range []string{
			"Ticket sales", "Passenger division", report.PeriodWords(month), *content.Account.AvailabilityPercent + " %", "99.9 %",
			string(content.Account.Verdict), "Europe/Oslo", "A remark.", "How it was measured", (*row.Digest)[:16],
		} {
			if !strings.Contains(text, word) {
				t.Errorf("the PDF does not say %q:\n%s", word, text)
			}
		}
		if n := len(content.Outages); n > 0 && !strings.Contains(text, span.WordsUp(content.Outages[0].MS)) {
			t.Errorf("the first outage of %d is missing", n)
		}
	})
	t.Run("a correction is a report beside it", func(t *testing.T) {
		next, err := desk.Draft(ctx, "tickets-passenger", month, "", trail.By{Name: "Mikkel Brand"}, now)
		if err != nil || next == id {
			t.Fatal(next, err)
		}
		r, err := srv.API.Store.Report(ctx, next)
		if err != nil || r.Number != 2 {
			t.Errorf("number %d, %v", r.Number, err)
		}
	})
	t.Run("CSV and JSON agree with the account", func(t *testing.T) {
		text, err := content.CSV()
		if err != nil {
			t.Fatal(err)
		}
		if lines := bytes.Count(text, []byte("\n")); lines != len(content.Account.Intervals)+1 {
			t.Errorf("%d lines for %d intervals", lines, len(content.Account.Intervals))
		}
		var back report.Content
		out, _ := json.MarshalIndent(content, "", " ")
		if err := json.Unmarshal(out, &back); err != nil || !reflect.DeepEqual(back.Account.TotalMS, content.Account.TotalMS) {
			t.Errorf("JSON: %v", err)
		}
	})
}
