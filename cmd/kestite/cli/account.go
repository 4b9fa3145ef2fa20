package cli

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"runtime/debug"
	"strconv"
	"text/tabwriter"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"kestite/core/account"
	"kestite/core/definition"
	"kestite/core/evidence"
	"kestite/core/seal"
	"kestite/core/verdict"
)

func accountCommand() *cobra.Command {
	var format, explain string
	cmd := &cobra.Command{
		Use:   "account DIR|FILE.zip|-",
		Short: "Recompute the accounts of a piece of evidence",
		Long: "Reads kestite-evidence/1 (bundle.json and measurements.csv, either with .gz, in a directory\n" +
			"or a zip; - reads a zip from standard input) and prints the account of each agreement.\n" +
			"The archive of a published report is such a zip; where it has what was judged of the\n" +
			"measurements in their place (stretches.json), all but response times follows from that.\n" +
			"With --explain it says for each agreement, rule by rule and down to the lines of\n" +
			"measurements.csv, why an instant counts as it does.\n" +
			"Exit status: 0 done, 2 refused input.",
		Args: exactly("DIR|FILE.zip|-"),
		RunE: func(cmd *cobra.Command, args []string) error {
			write, ok := accountFormats[format]
			if !ok {
				return &Refused{fmt.Errorf("--format %s is not known; it is json, table or csv", format)}
			}
			boundMemory()
			r, err := readEvidence(args[0], cmd.InOrStdin(), cmd.ErrOrStderr())
			if err != nil {
				return err
			}
			defer r.source.close()
			out := bufio.NewWriter(cmd.OutOrStdout())
			if explain != "" {
				err = explainAt(out, r, explain, format)
			} else {
				err = write(out, r.accounts)
			}
			if err != nil {
				return err
			}
			return out.Flush()
		},
	}
	cmd.Flags().StringVar(&format, "format", "json", "json, table or csv")
	cmd.Flags().StringVar(&explain, "explain", "", "say why an instant (RFC 3339) counts as it does; as text, or with --format json as JSON")
	return cmd
}

// boundMemory keeps the garbage of tens of millions of rows under 1 GiB.
func boundMemory() {
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(800 << 20)
	}
}

// evidenceRead is a piece of evidence, read and accounted. Close source after use.
type evidenceRead struct {
	source   *evidenceSource
	bundle   *definition.Compiled
	rows     *evidence.Measurements // nil: only what was judged of them is there
	sources  verdict.Sources
	evidence *account.Evidence
	accounts []*account.Account
}

func readEvidence(path string, stdin io.Reader, stderr io.Writer) (*evidenceRead, error) {
	source, err := openEvidence(path, stdin)
	if err != nil {
		return nil, &Refused{err}
	}
	r := &evidenceRead{source: source}
	if err := r.read(stderr); err != nil {
		source.close()
		return nil, &Refused{err}
	}
	return r, nil
}

func (r *evidenceRead) read(stderr io.Writer) error {
	in, name, err := r.source.bundle()
	if err != nil {
		return err
	}
	bundle, err := evidence.DecodeBundle(in)
	in.Close()
	if err == nil {
		r.bundle, err = definition.Compile(bundle)
	}
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	if r.source.judgedOnly() {
		return r.readJudged(stderr)
	}
	open, rowsName, err := r.source.measurements()
	if err != nil {
		return err
	}
	progress, done := progressLine(stderr)
	r.rows, err = evidence.ReadMeasurements(r.bundle, rowsName, open, progress)
	done()
	if err != nil {
		return err
	}
	if r.rows.LeftOut > 0 {
		fmt.Fprintf(stderr, "kestite: %d of %d measurements left out: no revision of the bundle names their check, location or instant\n", r.rows.LeftOut, r.rows.Rows)
	}
	r.sources = r.rows.Sources()
	r.evidence = account.NewEvidence(r.bundle, r.rows.Stretches, r.rows.Timing)
	r.accounts, err = r.evidence.All()
	return err
}

// readJudged reads what was judged of the measurements, where they are not there themselves.
func (r *evidenceRead) readJudged(stderr io.Writer) error {
	text, name, err := r.source.judged()
	if err != nil {
		return err
	}
	judged, err := seal.Judged(text)
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	fmt.Fprintf(stderr, "kestite: there are no measurements, only what was judged of them (%s): response times are not accounted\n", name)
	r.sources = verdict.Sources{Judged: judged, Raw: judged}
	r.evidence = account.NewEvidence(r.bundle, judged, nil)
	r.accounts, err = r.evidence.All()
	return err
}

// progressLine reports on a terminal, and nowhere else; done clears it.
func progressLine(w io.Writer) (progress evidence.Progress, done func()) {
	f, ok := asItIs(w).(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return nil, func() {}
	}
	return func(rows, bytes int64) {
			fmt.Fprintf(f, "\r%.1f million rows, %d MB read ", float64(rows)/1e6, bytes/1_000_000)
		}, func() {
			fmt.Fprint(f, "\r\x1b[K")
		}
}

var accountFormats = map[string]func(io.Writer, []*account.Account) error{
	"json":  accountJSON,
	"table": accountTable,
	"csv":   accountCSV,
}

func accountJSON(w io.Writer, list []*account.Account) error {
	enc := json.NewEncoder(w)
	enc.SetIndent("", " ")
	return enc.Encode(account.Document{Format: account.Format, Accounts: list})
}

var accountColumns = []string{
	"agreement", "service", "from", "to", "final", "verdict", "availability_percent", "availability_low_percent",
	"availability_high_percent", "coverage_percent", "base_ms", "downtime_ms", "allowance_ms", "allowance_left_ms",
	"outages", "longest_outage_ms", "credit_percent",
}

func accountRow(a *account.Account) []string {
	ms := func(n int64) string { return strconv.FormatInt(n, 10) }
	return []string{
		a.Agreement, a.Service, a.From.String(), a.To.String(), strconv.FormatBool(a.Final), string(a.Verdict),
		orDash(a.AvailabilityPercent), orDash(a.AvailabilityLowPercent), orDash(a.AvailabilityHighPercent), a.CoveragePercent,
		ms(a.BaseMS), ms(a.DowntimeMS), ms(a.AllowanceMS), ms(a.AllowanceLeftMS),
		ms(a.Outages.Count), ms(a.Outages.LongestMS), a.CreditPercent,
	}
}

func orDash(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

func accountCSV(w io.Writer, list []*account.Account) error {
	out := csv.NewWriter(w)
	if err := out.Write(accountColumns); err != nil {
		return err
	}
	for _, a := range list {
		if err := out.Write(accountRow(a)); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

func accountTable(w io.Writer, list []*account.Account) error {
	tw := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	for i, a := range list {
		if i > 0 {
			fmt.Fprintln(tw)
		}
		for n, value := range accountRow(a) {
			fmt.Fprintf(tw, "%s\t%s\n", accountColumns[n], value)
		}
	}
	return tw.Flush()
}
