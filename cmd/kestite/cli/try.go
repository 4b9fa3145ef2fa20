package cli

import (
	"crypto/x509"
	"encoding/json"
	"fmt"
	"io"
	"os"
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
}

func (o *tryOptions) add(f *pflag.FlagSet) {
	f.DurationVar(&o.timeout, "timeout", 5*time.Second, "how long to wait")
	f.BoolVar(&o.json, "json", false, "print JSON")
	f.StringVar(&o.roots, "roots", "", "PEM file of the roots to trust instead of the system's")
	f.IntVar(&o.ping.Packets, "packets", 5, "ping: packets to send, 1 to 100")
	f.IntVar(&o.ping.SizeBytes, "size", 56, "ping: payload in bytes, 8 to 8192")
	f.Int64Var(&o.ping.SpacingMS, "spacing-ms", 200, "ping: time between packets, 10 to 10000")
	f.StringVar(&o.http.Status, "status", "200-399", "http: expected status codes")
	f.StringVar(&o.http.Text, "text", "", "http: text that the body must contain")
	f.StringVar(&o.certificate.ServerName, "server-name", "", "certificate: name to ask for and to find (default: the target's host)")
	f.BoolVar(&o.certificate.WaiveTrust, "waive-trust", false, "certificate: take a chain that leads to no trusted root")
	f.StringVar(&o.dns.Type, "type", "A", "dns: record type, one of "+strings.Join(definition.RecordTypes, ", "))
	f.StringVar(&o.dns.Resolver, "resolver", "", "dns: host or host:port to ask (default: this machine's resolver)")
	f.StringVar(&o.dns.Expect, "expect", "", "dns: data that one of the records must have")
	f.BoolVar(&o.dns.Signed, "signed", false, "dns: the answer must be verified by DNSSEC (the AD flag)")
	f.BoolVar(&o.certificate.WaiveName, "waive-name", false, "certificate: take a certificate for another name")
}

// task checks the settings and makes the task of them.
func (o *tryOptions) task(kind, target string) (instrument.Task, error) {
	t := instrument.Task{Kind: kind, Target: target, Timeout: o.timeout, Ping: &o.ping, HTTP: &o.http, Certificate: &o.certificate, DNS: &o.dns}
	if err := definition.ValidTarget(kind, target); err != nil {
		return t, err
	}
	for _, r := range []struct {
		flag           string
		value, low, up int64
	}{
		{"--packets", int64(o.ping.Packets), 1, 100}, {"--size", int64(o.ping.SizeBytes), 8, 8192}, {"--spacing-ms", o.ping.SpacingMS, 10, 10_000},
		{"--timeout", o.timeout.Milliseconds(), 100, 60_000},
	} {
		if r.value < r.low || r.value > r.up {
			return t, fmt.Errorf("%s is %d; it lies between %d and %d", r.flag, r.value, r.low, r.up)
		}
	}
	if err := o.dns.Check(); err != nil {
		return t, err
	}
	_, err := definition.ParseStatusSet(o.http.Status)
	return t, err
}

func tryCommand() *cobra.Command {
	var o tryOptions
	cmd := &cobra.Command{
		Use:   "try KIND TARGET",
		Short: "Make one measurement from here, without a server",
		Long: "Makes one measurement of a kind (ping, http, tcp, certificate, dns) from this machine and prints outcome,\n" +
			"measures with their units, and detail. It is what an agent would measure, and enters no account.\n" +
			"Exit status: 0 ok or degraded, 1 failed or error, 2 refused input.",
		Example: "  kestite try ping 127.0.0.1\n  kestite try http https://127.0.0.1:8480/ --status 200\n  kestite try certificate 127.0.0.1:8412 --waive-trust",
		Args:    cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			task, err := o.task(args[0], args[1])
			if err != nil {
				return &Refused{err}
			}
			set := instrument.NewSet()
			defer set.Close()
			if o.roots != "" {
				if set.Roots, err = rootsFrom(o.roots); err != nil {
					return &Refused{err}
				}
			}
			ctx, cancel := untilSignal(cmd.Context())
			defer cancel()
			at := time.Now()
			r := set.Measure(ctx, task)
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
			"outcome": r.Outcome, "measures": r.Measures(t.Kind), "detail": r.Detail,
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
			fmt.Fprintf(tw, "  %s\t%v %s\t(%s)\n", m.Text, v, m.Unit, m.Name)
		}
	}
	return tw.Flush()
}
