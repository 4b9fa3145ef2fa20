package cli

import (
	"context"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/instrument"
)

// tryOptions are the settings of one measurement made by hand.
type tryOptions struct {
	timeout     time.Duration
	json        bool
	roots       string
	ping        definition.PingSettings
	http        definition.HTTPSettings
	certificate definition.CertificateSettings
	dns         definition.DNSSettings
	path        definition.PathSettings
	udp         definition.UDPSettings
	secret      secretOptions
	headers     []string
	of          []string // sources of a derived value
	numbers     []string // of a report
}

// secretOptions are what an http try signs in with; the secret itself comes from the environment.
type secretOptions struct{ kind, user, header, parameter string }

// secretVariable keeps a secret out of the list of processes.
const secretVariable = "KESTITE_SECRET"

func (o *tryOptions) add(f *pflag.FlagSet) {
	f.DurationVar(&o.timeout, "timeout", 5*time.Second, "how long to wait")
	f.BoolVar(&o.json, "json", false, "print JSON")
	f.StringVar(&o.roots, "roots", "", "http, certificate: PEM file of the roots to trust instead of the system's")
	f.IntVar(&o.ping.Packets, "packets", 5, "ping: packets to send, 1 to 100")
	f.IntVar(&o.ping.SizeBytes, "size", 56, "ping: payload in bytes, 8 to 8192")
	f.Int64Var(&o.ping.SpacingMS, "spacing-ms", 200, "ping: time between packets, 10 to 10000")
	f.StringVar(&o.http.Status, "status", "200-399", "http: expected status codes")
	f.StringVar(&o.http.Text, "text", "", "http: text that the body must contain")
	f.StringVar(&o.http.Pattern, "pattern", "", "http: regular expression that the body must match")
	f.StringVar(&o.http.ForbiddenText, "forbidden-text", "", "http: text that the body must not contain")
	f.StringVar(&o.http.ForbiddenPattern, "forbidden-pattern", "", "http: regular expression that the body must not match")
	f.StringVar(&o.http.Method, "request", "GET", "http: method")
	f.StringArrayVar(&o.headers, "header", nil, "http: a header of the request, as \"Name: value\"; may be given several times")
	f.StringVar(&o.http.Body, "body", "", "http: body of the request")
	f.IntVar(&o.http.Redirects, "redirects", 0, "http: how many redirects to follow, 0 to 10")
	f.StringVar(&o.http.Version, "http-version", "", "http: 1.1 or 2 (default: either)")
	f.StringVar(&o.http.JSONPath, "json-path", "", "http: JSONPath (RFC 9535) of a number in the body")
	f.StringVar(&o.secret.kind, "credential", "", "http: sign in by basic, bearer, header or query, with the secret in "+secretVariable)
	f.StringVar(&o.secret.user, "user", "", "http: user name, for --credential basic")
	f.StringVar(&o.secret.header, "secret-header", "", "http: name of the header, for --credential header")
	f.StringVar(&o.secret.parameter, "secret-parameter", "", "http: name of the parameter in the address, for --credential query")
	f.StringVar(&o.certificate.StartTLS, "starttls", "", "certificate: smtp, imap, pop3, ftp or postgres")
	f.StringVar(&o.udp.Codec, "codec", measure.G711.Name, "udp: g711 or g729")
	f.IntVar(&o.udp.Packets, "stream", 100, "udp: packets to play, 1 to 3000")
	f.BoolVar(&o.udp.Synchronised, "synchronised", false, "udp: both clocks are synchronised, tell delays one way")
	f.IntVar(&o.ping.DSCP, "dscp", 0, "ping, udp: differentiated services code point, 0 to 63")
	f.StringVar(&o.certificate.ServerName, "server-name", "", "certificate: name to ask for and to find (default: the target's host)")
	f.BoolVar(&o.certificate.WaiveTrust, "waive-trust", false, "certificate: take a chain that leads to no trusted root")
	f.StringVar(&o.dns.Type, "type", "A", "dns: record type, one of "+strings.Join(definition.RecordTypes, ", "))
	f.StringVar(&o.dns.Resolver, "resolver", "", "dns: host or host:port to ask (default: this machine's resolver)")
	f.StringVar(&o.dns.Expect, "expect", "", "dns: data that one of the records must have")
	f.BoolVar(&o.dns.Signed, "signed", false, "dns: the answer must be verified by DNSSEC (the AD flag)")
	f.StringVar(&o.path.Method, "method", definition.ByICMP, "path: icmp, udp or tcp")
	f.IntVar(&o.path.Port, "port", 0, "path: port of the target (default: 33434 for udp, 443 for tcp)")
	f.IntVar(&o.path.Rounds, "rounds", 3, "path: packets to each hop, 1 to 20")
	f.IntVar(&o.path.MaxHops, "max-hops", 30, "path: 1 to 64")
	f.BoolVar(&o.path.Names, "names", false, "path: look up the hops' names")
	f.StringArrayVar(&o.of, "of", nil, "derived: a source, as \"KIND TARGET MEASURE\"; given once for each, in order")
	f.StringArrayVar(&o.numbers, "number", nil, "report-in: name of a number that may be reported; up to four")
	f.BoolVar(&o.certificate.WaiveName, "waive-name", false, "certificate: take a certificate for another name")
}

// foreign refuses flags that say nothing of the kind: what a flag is for, its usage
// names first.
func (o *tryOptions) foreign(f *pflag.FlagSet, kind string) (err error) {
	kinds := []string{kind}
	for _, source := range o.of {
		kinds = append(kinds, strings.Fields(source + " -")[0])
	}
	f.Visit(func(flag *pflag.Flag) {
		whose, _, only := strings.Cut(flag.Usage, ": ")
		if list := strings.Split(whose, ", "); only && err == nil && !slices.ContainsFunc(kinds, func(k string) bool { return slices.Contains(list, k) }) {
			err = fmt.Errorf("--%s is for %s, and this is a %s", flag.Name, whose, kind)
		}
	})
	return err
}

// task checks the settings and makes the task of them.
func (o *tryOptions) task(kind, target string) (instrument.Task, error) {
	t := instrument.Task{Kind: kind, Target: target, Timeout: o.timeout, Settings: definition.Settings{Ping: &o.ping, HTTP: &o.http, Certificate: &o.certificate, DNS: &o.dns, Path: &o.path, UDP: &o.udp}}
	if definition.Inward(kind) {
		return t, fmt.Errorf("a %s value is no source", kind)
	}
	if err := definition.ValidTarget(kind, target); err != nil {
		return t, err
	}
	for _, r := range []struct {
		flag           string
		value, low, up int64
	}{
		{"--packets", int64(o.ping.Packets), 1, 100}, {"--size", int64(o.ping.SizeBytes), 8, 8192}, {"--spacing-ms", o.ping.SpacingMS, 10, 10_000},
		{"--stream", int64(o.udp.Packets), 1, 3000}, {"--dscp", int64(o.ping.DSCP), 0, 63}, {"--redirects", int64(o.http.Redirects), 0, 10},
		{"--rounds", int64(o.path.Rounds), 1, 20}, {"--max-hops", int64(o.path.MaxHops), 1, 64}, {"--port", int64(o.path.Port), 0, 65535},
		{"--timeout", o.timeout.Milliseconds(), 100, 60_000},
	} {
		if r.value < r.low || r.value > r.up {
			return t, fmt.Errorf("%s is %d; it lies between %d and %d", r.flag, r.value, r.low, r.up)
		}
	}
	if err := o.dns.Check(); err != nil {
		return t, err
	}
	if err := o.path.Check(); err != nil {
		return t, err
	}
	o.udp.DSCP = o.ping.DSCP
	if err := o.udp.Check(); err != nil {
		return t, err
	}
	if err := o.certificate.Check(); err != nil {
		return t, err
	}
	o.http.Headers = nil
	for _, h := range o.headers {
		name, value, _ := strings.Cut(h, ":")
		o.http.Headers = append(o.http.Headers, definition.Header{Name: strings.TrimSpace(name), Value: strings.TrimSpace(value)})
	}
	if o.secret.kind != "" {
		origin, err := definition.Origin(t.Target)
		if err != nil {
			return t, err
		}
		spec := definition.CredentialSpec{Name: "credential", Kind: o.secret.kind, User: o.secret.user, Header: o.secret.header,
			Parameter: o.secret.parameter, Origins: []string{origin}}
		if err := spec.Validate(); err != nil {
			return t, err
		}
		t.Secret = &instrument.Secret{
			Kind: spec.Kind, User: spec.User, Header: spec.Header, Parameter: spec.Parameter, Origins: spec.Origins,
			Value: os.Getenv(secretVariable),
		}
		if err := definition.ValidSecret(t.Secret.Value); err != nil {
			return t, fmt.Errorf("%s: %w", secretVariable, err)
		}
		o.http.Credential = "given"
	}
	return t, o.http.Check()
}

func tryCommand() *cobra.Command {
	var o tryOptions
	cmd := &cobra.Command{
		Use:   "try KIND TARGET",
		Short: "Make one measurement from here, without a server",
		Long: "Makes one measurement of a kind (ping, http, tcp, certificate, dns, path, udp) from this machine and prints outcome,\n" +
			"measures with their units, and detail. It is what an agent would measure, and enters no account.\n" +
			"derived: the target is the operation (sum, difference, mean, min, max, share) over measurements made now, each named by --of.\n" +
			"report-in: the target is an address to listen at; the first report that comes in within --timeout is the measurement.\n" +
			"Exit status: 0 ok or degraded, 1 failed or error, 2 refused input.",
		Example: "  kestite try ping 127.0.0.1\n  kestite try http https://127.0.0.1:8480/ --status 200\n  kestite try certificate 127.0.0.1:8412 --waive-trust\n" +
			"  kestite try derived max --of 'ping 127.0.0.1 rtt_mean_ms' --of 'ping ::1 rtt_mean_ms'\n  kestite try report-in 127.0.0.1:8499 --number bookings --timeout 60s",
		Args: exactly("KIND", "TARGET"),
		RunE: func(cmd *cobra.Command, args []string) error {
			var err error
			set := instrument.NewSet(instrument.LocalPolicy())
			set.Flows = "try"
			defer set.Close()
			if err := o.foreign(cmd.Flags(), args[0]); err != nil {
				return &Refused{err}
			}
			if o.roots != "" {
				if set.Roots, err = rootsFrom(o.roots); err != nil {
					return &Refused{err}
				}
			}
			ctx, cancel := untilSignal(cmd.Context())
			defer cancel()
			at := time.Now()
			task, r, err := o.measure(ctx, set, cmd.ErrOrStderr(), args[0], args[1])
			if err != nil {
				return &Refused{err}
			}
			if err := showTry(cmd.OutOrStdout(), task, at, r, o.json); err != nil {
				return err
			}
			if r.Outcome == measure.Failed || r.Outcome == measure.Error {
				return &Quiet{fmt.Errorf("the measurement is %s", r.Outcome)}
			}
			return nil
		},
	}
	o.add(cmd.Flags())
	return cmd
}

// measure makes the measurement of a kind. The error is one of the input.
func (o *tryOptions) measure(ctx context.Context, set *instrument.Set, say io.Writer, kind, target string) (instrument.Task, instrument.Result, error) {
	task := instrument.Task{Kind: kind, Target: target}
	var r instrument.Result
	var err error
	switch kind {
	case measure.Derived.Name:
		r, err = o.derive(ctx, set, target)
	case measure.ReportIn.Name:
		r, err = o.awaitReport(ctx, say, target)
	default:
		if task, err = o.task(kind, target); err == nil {
			r = set.Measure(ctx, task)
		}
	}
	return task, r, err
}

func rootsFrom(file string) (*x509.CertPool, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(text) {
		return nil, fmt.Errorf("%s holds no certificate in PEM form", file)
	}
	return pool, nil
}

func showTry(w io.Writer, t instrument.Task, at time.Time, r instrument.Result, asJSON bool) error {
	if asJSON {
		enc := json.NewEncoder(w)
		enc.SetIndent("", " ")
		return enc.Encode(map[string]any{
			"kind": t.Kind, "target": t.Target, "at": at.UTC().Format("2006-01-02T15:04:05.000Z"),
			"outcome": r.Outcome, "measures": r.Measures(t.Kind), "detail": r.Detail, "findings": r.Findings,
		})
	}
	fmt.Fprintf(w, "%s %s: %s\n", t.Kind, t.Target, r.Outcome)
	if r.Detail != "" {
		fmt.Fprintf(w, "%s\n", r.Detail)
	}
	kind, _ := measure.KindNamed(t.Kind)
	values := r.Measures(t.Kind)
	tw := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	for _, m := range kind.Measures {
		if v, has := values[m.Name]; has {
			fmt.Fprintf(tw, "  %s\t%s %s\t(%s)\n", m.Text, strconv.FormatFloat(v, 'f', -1, 64), m.Unit, m.Name)
		}
	}
	if err := tw.Flush(); err != nil {
		return err
	}
	return showFindings(w, r.Findings)
}

// showFindings prints what a measurement saw beyond its measures.
func showFindings(w io.Writer, f *measure.Findings) error {
	if f == nil {
		return nil
	}
	if f.Remote != "" {
		fmt.Fprintf(w, "  answered by %s\n", f.Remote)
	}
	for _, n := range f.Notes {
		fmt.Fprintf(w, "  note: %s\n", n)
	}
	for _, v := range f.Visited {
		fmt.Fprintf(w, "  redirected from %s\n", v)
	}
	for _, a := range f.Answers {
		fmt.Fprintf(w, "  %s\n", a)
	}
	for i, c := range f.Chain {
		fmt.Fprintf(w, "  certificate %d: %s\n    issued by %s\n    valid %s to %s, %s, signed by %s\n", i+1, c.Subject, c.Issuer, c.NotBefore, c.NotAfter, c.Key, c.Signature)
	}
	if f.Response != nil {
		fmt.Fprintf(w, "\n  %s\n  %s\n\n%s\n", f.Response.Status, strings.Join(f.Response.Headers, "\n  "), f.Response.Body)
	}
	if f.Trace != nil {
		return showTrace(w, f.Trace)
	}
	return nil
}

// showTrace prints a line for each hop.
func showTrace(w io.Writer, t *measure.Trace) error {
	tw := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	fmt.Fprintf(tw, "\n  hop\twho\tanswered\tloss\tround trip min/mean/max ms\t\n")
	for _, h := range t.Hops {
		who, loss, trip := "silent", "unknown", ""
		if len(h.Addrs) > 0 {
			who = strings.Join(h.Addrs, ", ")
		}
		if names := strings.Join(h.Names, " "); strings.TrimSpace(names) != "" {
			who += " (" + strings.TrimSpace(names) + ")"
		}
		if h.LossPercent != nil {
			loss = fmt.Sprintf("%.0f %%", *h.LossPercent)
		}
		if h.MeanMS != nil {
			trip = fmt.Sprintf("%.3f / %.3f / %.3f", *h.MinMS, *h.MeanMS, *h.MaxMS)
		}
		fmt.Fprintf(tw, "  %d\t%s\t%d of %d\t%s\t%s\t%s\n", h.TTL, who, h.Answered, h.Sent, loss, trip, h.Note)
	}
	return tw.Flush()
}
