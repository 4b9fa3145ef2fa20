package cli

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strconv"
	"text/tabwriter"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"kestite/core/account"
	"kestite/core/definition"
	"kestite/core/evidence"
)

func accountCommand() *cobra.Command {
	var format string
	cmd := &cobra.Command{
		Use:   "account DIR|FILE.zip|-",
		Short: "Recompute the accounts of a piece of evidence",
		Long: "Reads kestite-evidence/1 (bundle.json and measurements.csv, either with .gz, in a directory\n" +
			"or a zip; - reads a zip from standard input) and prints the account of each agreement.\n" +
			"Exit status: 0 done, 2 refused input.",
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			write, ok := accountFormats[format]
			if !ok {
				return fmt.Errorf("--format %s is not known; it is json, table or csv", format)
			}
			list, err := readAccounts(args[0], cmd.InOrStdin(), cmd.ErrOrStderr())
			if err != nil {
				return err
			}
			out := bufio.NewWriter(cmd.OutOrStdout())
			if err := write(out, list); err != nil {
				return err
			}
			return out.Flush()
		},
	}
	cmd.Flags().StringVar(&format, "format", "json", "json, table or csv")
	return cmd
}

func readAccounts(path string, stdin io.Reader, stderr io.Writer) ([]*account.Account, error) {
	src, err := openEvidence(path, stdin)
	if err != nil {
		return nil, &Refused{err}
	}
	defer src.close()
	in, name, err := src.bundle()
	if err != nil {
		return nil, &Refused{err}
	}
	bundle, err := evidence.DecodeBundle(in)
	in.Close()
	if err != nil {
		return nil, &Refused{fmt.Errorf("%s: %w", name, err)}
	}
	compiled, err := definition.Compile(bundle)
	if err != nil {
		return nil, &Refused{fmt.Errorf("%s: %w", name, err)}
	}
	open, rowsName, err := src.measurements()
	if err != nil {
		return nil, &Refused{err}
	}
	rows, err := evidence.ReadMeasurements(compiled, rowsName, open, progressLine(stderr))
	if err != nil {
		return nil, &Refused{err}
	}
	if rows.LeftOut > 0 {
		fmt.Fprintf(stderr, "kestite: %d of %d measurements left out: no revision of the bundle names their check, location or instant\n", rows.LeftOut, rows.Rows)
	}
	list, err := account.NewEvidence(compiled, rows.Stretches, rows.Timing).All()
	if err != nil {
		return nil, &Refused{err}
	}
	return list, nil
}

// progressLine reports on a terminal, and nowhere else.
func progressLine(w io.Writer) evidence.Progress {
	f, ok := w.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return nil
	}
	return func(rows, bytes int64) {
		fmt.Fprintf(f, "\r%d million rows, %d MB read ", rows/1_000_000, bytes/1_000_000)
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
