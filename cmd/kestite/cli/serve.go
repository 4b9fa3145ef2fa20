package cli

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"kestite/core/calendar"
	"kestite/core/definition"
	"kestite/server"
	"kestite/server/api"
	"kestite/web"
)

// Version of this build, set by the linker.
var Version = "development"

// fromEnvironment lets KESTITE_FLAG_NAME stand for --flag-name.
func fromEnvironment(flags *pflag.FlagSet) error {
	var failed error
	flags.VisitAll(func(f *pflag.Flag) {
		name := "KESTITE_" + strings.ToUpper(strings.ReplaceAll(f.Name, "-", "_"))
		if v, ok := os.LookupEnv(name); ok && !f.Changed && failed == nil {
			if err := f.Value.Set(v); err != nil {
				failed = fmt.Errorf("%s: %w", name, err)
			}
		}
	})
	return failed
}

type logFlags struct{ format, level string }

func (l *logFlags) add(flags *pflag.FlagSet) {
	flags.StringVar(&l.format, "log-format", "text", "text or json")
	flags.StringVar(&l.level, "log-level", "info", "debug, info, warn or error")
}

func (l *logFlags) logger(w io.Writer) (*slog.Logger, error) {
	var level slog.Level
	if err := level.UnmarshalText([]byte(l.level)); err != nil {
		return nil, fmt.Errorf("--log-level %s is not known; it is debug, info, warn or error", l.level)
	}
	opts := &slog.HandlerOptions{Level: level}
	switch l.format {
	case "text":
		return slog.New(slog.NewTextHandler(w, opts)), nil
	case "json":
		return slog.New(slog.NewJSONHandler(w, opts)), nil
	}
	return nil, fmt.Errorf("--log-format %s is not known; it is text or json", l.format)
}

func untilSignal(ctx context.Context) (context.Context, context.CancelFunc) {
	return signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM)
}

// stopTime is how long a graceful stop may take.
const stopTime = 20 * time.Second

func serveCommand() *cobra.Command {
	var o server.Options
	var log logFlags
	var proxies []string
	cmd := &cobra.Command{
		Use:   "serve",
		Short: "Run the server",
		Long: "Runs the server on a PostgreSQL database. Every flag can be given as an environment variable " +
			"too:\n--database is KESTITE_DATABASE, --log-level is KESTITE_LOG_LEVEL, and so on.",
		Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			if err := fromEnvironment(cmd.Flags()); err != nil {
				return err
			}
			if o.Log, err = log.logger(cmd.ErrOrStderr()); err != nil {
				return err
			}
			if o.DatabaseURL == "" {
				return fmt.Errorf("--database is missing: give the URL of a PostgreSQL database, " +
					"such as postgres://kestite@127.0.0.1:5432/kestite")
			}
			if err := zoneFlag(o.Timezone); err != nil {
				return err
			}
			if (o.CertFile == "") != (o.TLSKeyFile == "") {
				return fmt.Errorf("--tls-cert and --tls-key come together, or not at all")
			}
			if o.Proxies, err = prefixes(proxies); err != nil {
				return fmt.Errorf("--proxy: %w", err)
			}
			if o.PublicURL != "" {
				if _, err := definition.Origin(o.PublicURL); err != nil {
					return fmt.Errorf("--public-url: %w", err)
				}
			}
			warnings(o)
			ctx, cancel := untilSignal(cmd.Context())
			defer cancel()
			o.Web, o.Version = web.Handler(), Version
			srv, err := server.Build(ctx, o)
			if err != nil {
				return err
			}
			if err := warnOfOwner(ctx, srv, o.Log); err != nil {
				srv.Close()
				return err
			}
			if err := srv.Start(ctx); err != nil {
				srv.Close()
				return err
			}
			announce(cmd.OutOrStdout(), srv)
			return runUntil(ctx, srv)
		},
	}
	f := cmd.Flags()
	f.StringVar(&o.DatabaseURL, "database", "", "URL of the PostgreSQL database (required)")
	f.StringVar(&o.Listen, "listen", "127.0.0.1:8480", "address to listen on")
	f.StringVar(&o.Organisation, "organisation", "", "name of the organisation, until a person names it (without it: My organisation)")
	f.StringVar(&o.Timezone, "timezone", "", "IANA zone of its months, until a person chooses it (without it: UTC)")
	f.BoolVar(&o.SecureCookie, "secure-cookie", false, "send the session cookie over HTTPS only (set it behind a TLS proxy)")
	f.StringVar(&o.CertFile, "tls-cert", "", "file with the certificate (PEM, with what leads to its "+
		"root): HTTPS is spoken; renewed without a restart")
	f.StringVar(&o.TLSKeyFile, "tls-key", "", "file with its key (PEM)")
	f.StringSliceVar(&proxies, "proxy", nil, "range of addresses of proxies whose X-Forwarded-For is believed, such as 10.0.0.0/8")
	f.StringVar(&o.KeyFile, "key-file", "", "file with the key that secrets and second factors are encrypted "+
		"with; made when missing, the same on all servers")
	f.StringVar(&o.PublicURL, "public-url", "", "where people reach the server, for links in messages, "+
		"such as https://kestite.example (without it: where it listens)")
	f.StringSliceVar(&o.SendTo, "send-to", nil, "range of addresses that messages may go to though they are this machine, its link "+
		"or its metadata, such as 127.0.0.1")
	f.StringVar(&o.Scripts, "scripts", "", "directory of scripts that messages may be given to, such as "+
		"/etc/kestite/scripts (without it: none are run)")
	log.add(f)
	return cmd
}

func prefixes(texts []string) (out []netip.Prefix, err error) {
	for _, text := range texts {
		p, err := netip.ParsePrefix(text)
		if err != nil {
			return nil, fmt.Errorf("%q is no range of addresses; write it as 10.0.0.0/8", text)
		}
		out = append(out, p)
	}
	return out, nil
}

// warnings say loudly what is open to others.
func warnings(o server.Options) {
	for _, file := range []string{o.KeyFile, o.TLSKeyFile} {
		if open := openToOthers(file); file != "" && open != "" {
			o.Log.Warn(open)
		}
	}
	if o.KeyFile == "" {
		o.Log.Warn("there is no --key-file: neither secrets of checks nor second factors can be kept")
	}
	host, _, err := net.SplitHostPort(o.Listen)
	if err == nil && o.CertFile == "" && !o.SecureCookie && !onThisMachine(host) {
		o.Log.Warn("passwords and tokens go in the clear to other machines: give --tls-cert and --tls-key, "+
			"or listen on 127.0.0.1 behind a proxy that speaks HTTPS and say --secure-cookie", "listen", o.Listen)
	}
}

// warnOfOwner says loudly where the server could change the trail.
func warnOfOwner(ctx context.Context, srv *server.Server, log *slog.Logger) error {
	owns, err := srv.API.Store.Owns(ctx)
	if owns {
		log.Warn("the server works with the role that owns the tables, so that the trail could be changed by it: " +
			"run kestite migrate --worker ROLE with the owner, and serve with that role (docs/operation.md)")
	}
	return err
}

// zoneFlag says what is wrong with --timezone; empty is none.
func zoneFlag(name string) error {
	if name == "" {
		return nil
	}
	if _, err := calendar.Zone(name); err != nil {
		return fmt.Errorf("--timezone: %w", err)
	}
	return nil
}

func announce(w io.Writer, srv *server.Server) {
	fmt.Fprintf(w, "Kestite is at %s\n", srv.URL)
	if srv.FirstToken != "" {
		fmt.Fprintf(w, "Nobody can sign in yet. Open %s/first and make the first "+
			"account with this one-time token:\n\n    %s\n\n", srv.URL, srv.FirstToken)
	}
}

// runUntil waits for the end and stops the server in order.
func runUntil(ctx context.Context, srv *server.Server) error {
	var failed error
	select {
	case <-ctx.Done():
	case failed = <-srv.Failed():
	}
	stop, cancel := context.WithTimeout(context.WithoutCancel(ctx), stopTime)
	defer cancel()
	if err := srv.Stop(stop); failed == nil {
		failed = err
	}
	return failed
}

func migrateCommand() *cobra.Command {
	var o server.Options
	var worker string
	cmd := &cobra.Command{
		Use:   "migrate",
		Short: "Bring the database's schema up to date and exit",
		Long: "Brings the schema up to date, connected as the role that owns the database, and lets the role --worker work with it:\n" +
			"servers run with that one, and can then change neither the schema nor the trail.",
		Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := fromEnvironment(cmd.Flags()); err != nil {
				return err
			}
			if err := zoneFlag(o.Timezone); err != nil {
				return err
			}
			o.Log = slog.New(slog.NewTextHandler(cmd.ErrOrStderr(), nil))
			if err := server.Migrate(cmd.Context(), o, worker); err != nil {
				return err
			}
			fmt.Fprintln(cmd.OutOrStdout(), "The schema is up to date.")
			return nil
		},
	}
	cmd.Flags().StringVar(&o.DatabaseURL, "database", "", "URL of the PostgreSQL database (required)")
	cmd.Flags().StringVar(&worker, "worker", "", "role that servers work with; it has to be there, and the owner a member of it")
	cmd.Flags().StringVar(&o.Organisation, "organisation", "", "name of the organisation, until a person names it")
	cmd.Flags().StringVar(&o.Timezone, "timezone", "", "IANA zone of its months, until a person chooses it")
	return cmd
}

func openAPICommand() *cobra.Command {
	return &cobra.Command{
		Use:   "openapi",
		Short: "Print the API's OpenAPI 3.1 document",
		Args:  exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			doc, err := api.Describe(Version)
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s\n", doc)
			return err
		},
	}
}
