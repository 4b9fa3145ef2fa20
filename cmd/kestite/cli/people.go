package cli

import (
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/spf13/cobra"

	"kestite/server"
	"kestite/server/trail"
)

func peopleCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "people", Short: "People who cannot sign in any more"}
	cmd.AddCommand(resetCommand())
	return cmd
}

// resetCommand is for when nobody who could help can sign in: whoever can reach
// the database can make a link.
func resetCommand() *cobra.Command {
	var o server.Options
	var factor bool
	cmd := &cobra.Command{
		Use:   "reset EMAIL",
		Short: "Make a one-time link by which a person chooses a new password",
		Long: "Makes a one-time link by which a person chooses a new password, and prints what follows the server's address.\n" +
			"It is good for two days and stands in the trail.",
		Args: exactly("EMAIL"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := fromEnvironment(cmd.Flags()); err != nil {
				return err
			}
			if o.DatabaseURL == "" {
				return errors.New("--database is missing: give the URL of the server's PostgreSQL database")
			}
			ctx := cmd.Context()
			o.Log = slog.New(slog.NewTextHandler(cmd.ErrOrStderr(), nil))
			srv, err := server.Build(ctx, o)
			if err != nil {
				return err
			}
			defer srv.Close()
			p, err := srv.API.Store.PersonByEmail(ctx, strings.TrimSpace(args[0]))
			if errors.Is(err, pgx.ErrNoRows) {
				return &Refused{fmt.Errorf("nobody has the e-mail address %s", args[0])}
			}
			if err != nil {
				return err
			}
			if p.DisabledAt != nil {
				return &Refused{fmt.Errorf("%s may not sign in; an administrator stopped that", p.Name)}
			}
			if factor {
				if err := srv.API.People.DropFactor(ctx, trail.Console, p.ID); err != nil {
					return err
				}
				fmt.Fprintln(cmd.OutOrStdout(), "The second factor is gone.")
			}
			link, err := srv.API.People.Link(ctx, trail.Console, p.ID)
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s chooses a new password at the server's address "+
				"followed by\n\n    %s\n\nuntil %s, once.\n", p.Name, link.Path, link.Expires.UTC().Format(time.RFC1123))
			return nil
		},
	}
	cmd.Flags().StringVar(&o.DatabaseURL, "database", "", "URL of the server's PostgreSQL database (required)")
	cmd.Flags().BoolVar(&factor, "drop-second-factor", false, "take a lost second factor away too")
	return cmd
}
