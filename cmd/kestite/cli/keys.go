package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"kestite/core/seal"
	"kestite/server"
	"kestite/server/seals"
	"kestite/server/trail"
)

// keysCommand is about the keys that published reports are signed with.
func keysCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "keys", Short: "The keys that published reports are signed with"}
	var o server.Options
	cmd.PersistentFlags().StringVar(&o.DatabaseURL, "database", "", "URL of the server's PostgreSQL database (required)")
	cmd.PersistentFlags().StringVar(&o.KeyFile, "key-file", "", "the server's key file, that private keys are encrypted with")
	with := func(use, short string, args cobra.PositionalArgs, does func(context.Context, *cobra.Command, *seals.Keys, []string) error) {
		cmd.AddCommand(&cobra.Command{Use: use, Short: short, Args: args, RunE: func(c *cobra.Command, args []string) error {
			if err := fromEnvironment(c.Flags()); err != nil {
				return err
			}
			if o.DatabaseURL == "" {
				return errors.New("--database is missing: give the URL of the server's PostgreSQL database")
			}
			o.Log = slog.New(slog.NewTextHandler(c.ErrOrStderr(), nil))
			srv, err := server.Build(c.Context(), o)
			if err != nil {
				return err
			}
			defer srv.Close()
			return does(c.Context(), c, srv.API.Desk.Keys, args)
		}})
	}
	made := func(replace bool) func(context.Context, *cobra.Command, *seals.Keys, []string) error {
		return func(ctx context.Context, c *cobra.Command, keys *seals.Keys, _ []string) error {
			id, err := keys.Make(ctx, replace, trail.Console)
			if err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "%s signs from now on. Give its public key to who checks reports: kestite keys public\n", id)
			return nil
		}
	}
	with("make", "Make a key; the newest in use signs", exactly(), made(false))
	with("rotate", "Make a key, and retire all others", exactly(), made(true))
	retire := func(ctx context.Context, c *cobra.Command, keys *seals.Keys, args []string) error {
		if err := keys.Retire(ctx, args[0], trail.Console); err != nil {
			return &Refused{err}
		}
		fmt.Fprintf(c.OutOrStdout(), "%s signs no more.\n", args[0])
		return nil
	}
	with("retire ID", "End the time in which a key signs; what it signed stays good", exactly("ID"), retire)
	list := func(ctx context.Context, c *cobra.Command, keys *seals.Keys, _ []string) error {
		list, err := keys.List(ctx)
		if err != nil {
			return err
		}
		w := tabwriter.NewWriter(c.OutOrStdout(), 0, 0, 2, ' ', 0)
		for _, k := range list {
			until := "in use"
			if k.Retired != nil {
				until = "until " + k.Retired.UTC().Format(time.RFC3339)
			}
			fmt.Fprintf(w, "%s\tfrom %s\t%s\tmade by %s\n", k.ID, k.MadeAt.UTC().Format(time.RFC3339), until, inLine(k.MadeBy))
		}
		return w.Flush()
	}
	with("list", "The keys, with the time in which each signed", exactly(), list)
	var file string
	with("public", "Write the public keys (PEM)", exactly(), func(ctx context.Context, c *cobra.Command, keys *seals.Keys, _ []string) error {
		list, err := keys.List(ctx)
		if err != nil {
			return err
		}
		out := ""
		for _, k := range list {
			text, err := seal.PEM(k.Public)
			if err != nil {
				return err
			}
			out += text
		}
		if file == "" {
			fmt.Fprint(c.OutOrStdout(), out)
			return nil
		}
		return os.WriteFile(file, []byte(out), 0o644)
	})
	for _, c := range cmd.Commands() {
		if c.Use == "public" {
			c.Flags().StringVar(&file, "out", "", "file to write to; standard output where it is not given")
		}
	}
	return cmd
}
