package cli

import (
	"errors"
	"fmt"
	"log/slog"
	"time"

	"github.com/spf13/cobra"

	"kestite/core/calendar"
	"kestite/server"
	"kestite/server/publish"
	"kestite/server/trail"
)

// publishCommand publishes many reports at once.
func publishCommand() *cobra.Command {
	var o server.Options
	var of publish.Which
	var period string
	cmd := &cobra.Command{Use: "publish", Short: "Publish the reports of all agreements for the periods that end within a time", Args: exactly()}
	f := cmd.Flags()
	f.StringVar(&o.DatabaseURL, "database", "", "URL of the server's PostgreSQL database (required)")
	f.StringVar(&o.KeyFile, "key-file", "", "the server's key file, that private keys are encrypted with")
	f.StringVar(&o.PublicURL, "public-url", "", "address of the server, for the links in messages to customers")
	f.StringVar(&period, "period", "", "2026-10, 2026-Q4, 2026: periods that end within it (required)")
	f.StringVar(&of.Customer, "customer", "", "id of the customer whose reports alone are published")
	f.BoolVar(&of.Unclosed, "unclosed", false, "publish those too whose accounts nobody has frozen")
	cmd.RunE = func(c *cobra.Command, _ []string) error {
		if err := fromEnvironment(c.Flags()); err != nil {
			return err
		}
		switch {
		case o.DatabaseURL == "":
			return errors.New("--database is missing: give the URL of the server's PostgreSQL database")
		case period == "":
			return errors.New("--period is missing: give a month, quarter or year, such as 2026-10")
		}
		o.Log = slog.New(slog.NewTextHandler(c.ErrOrStderr(), nil))
		srv, err := server.Build(c.Context(), o)
		if err != nil {
			return err
		}
		defer srv.Close()
		snap, err := srv.API.Definitions.Snapshot(c.Context())
		if err != nil {
			return err
		}
		zone, err := calendar.Zone(snap.Timezone)
		if err != nil {
			return err
		}
		if of.Band, err = calendar.ParsePeriod(period, zone); err != nil {
			return &Refused{fmt.Errorf("--period: %w", err)}
		}
		if of.Customer != "" && snap.Customers[of.Customer] == nil {
			return &Refused{fmt.Errorf("--customer: there is no customer %s", of.Customer)}
		}
		done, before, left := 0, 0, 0
		err = srv.API.Desk.Many(c.Context(), of, trail.Console, time.Now, func(r publish.Outcome) {
			what := "published"
			switch {
			case r.Published:
				done++
			case r.Why != nil:
				left++
				what = "left: " + r.Why.Error()
			default:
				before++
				what = "was published before"
			}
			fmt.Fprintf(c.OutOrStdout(), "%s, %s: %s\n", r.Name, r.Period, what)
		})
		fmt.Fprintf(c.OutOrStdout(), "%d published, %d before, %d left.\n", done, before, left)
		if err == nil && left > 0 {
			err = &Refused{fmt.Errorf("%d left unpublished; what holds each up stands beside it", left)}
		}
		return err
	}
	return cmd
}
