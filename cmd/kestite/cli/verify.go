package cli

import (
	"crypto/ed25519"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"

	"github.com/spf13/cobra"

	"kestite/core/seal"
	"kestite/server/report"
)

// Differs is a report that is not what it says it is: exit status 1.
type Differs struct{ Count int }

func (d *Differs) Error() string {
	if d.Count == 1 {
		return "one thing is not as it was published"
	}
	return fmt.Sprintf("%d things are not as they were published", d.Count)
}

func verifyCommand() *cobra.Command {
	var keyFiles, codes []string
	cmd := &cobra.Command{
		Use:   "verify --key FILE.pem FILE.zip…",
		Short: "Check published reports: signature, chain, and every figure recomputed",
		Long: "Reads archives of published reports and checks, without network, database or clock:\n" +
			"that the container is in its one form, the digests, the signature by a public key that you\n" +
			"were given, that several of one customer follow from one another, and that every published\n" +
			"figure follows from the definitions and measurements in the archive.\n" +
			"--code compares a code that you kept of an earlier report, and finds a second history.\n" +
			"Exit status: 0 all of it holds, 1 something differs, 2 it cannot be read.",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return &Refused{fmt.Errorf("name at least one FILE.zip")}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			keys, err := publicKeys(keyFiles)
			if err != nil {
				return &Refused{err}
			}
			v := &verification{out: cmd.OutOrStdout(), keys: keys}
			for _, name := range args {
				if err := v.file(name); err != nil {
					return &Refused{fmt.Errorf("%s: %w", name, err)}
				}
			}
			if err := v.chains(codes); err != nil {
				return &Refused{err}
			}
			if v.wrong > 0 {
				return &Differs{v.wrong}
			}
			return nil
		},
	}
	cmd.Flags().StringArrayVar(&keyFiles, "key", nil, "file with public keys (PEM) that you trust; may be given several times")
	cmd.Flags().StringArrayVar(&codes, "code", nil, "a code that was kept, as 17-K7Q2M-4XNRA-ABCDE-FGHIJ; may be given several times")
	return cmd
}

func publicKeys(files []string) (map[string]ed25519.PublicKey, error) {
	if len(files) == 0 {
		return nil, fmt.Errorf("--key is missing: give the public key of who publishes, as they gave it to you (Reports, Public keys)")
	}
	out := map[string]ed25519.PublicKey{}
	for _, name := range files {
		text, err := os.ReadFile(name)
		if err != nil {
			return nil, err
		}
		keys, err := seal.ParsePEM(text)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		maps.Copy(out, keys)
	}
	return out, nil
}

// verification is one run of verify.
type verification struct {
	out   io.Writer
	keys  map[string]ed25519.PublicKey
	read  []*seal.Archive
	wrong int
}

func (v *verification) good(format string, args ...any) {
	v.line("ok", format, args...)
}
func (v *verification) bad(format string, args ...any) {
	v.wrong++
	v.line("WRONG", format, args...)
}
func (v *verification) note(format string, args ...any) {
	v.line("note", format, args...)
}

// line says one thing: what archives say in it cannot begin another.
func (v *verification) line(kind, format string, args ...any) {
	fmt.Fprintf(v.out, "  %-7s %s\n", kind, inLine(fmt.Sprintf(format, args...)))
}

// file checks one archive; the error is one of reading it.
func (v *verification) file(name string) error {
	f, err := os.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	fmt.Fprintln(v.out, inLine(name))
	// Who signed it is judged before anything that it says is shown.
	a, err := seal.Open(f, info.Size())
	if err != nil {
		v.bad("%s", err)
		return nil
	}
	m := a.Manifest
	if err := a.SignedBy(v.keys); err != nil {
		v.bad("%s", err)
	} else {
		v.good("signed with the key %s", m.Key)
	}
	if err := a.Whole(f, info.Size()); err != nil {
		v.bad("%s", err)
		return nil
	}
	v.read = append(v.read, a)
	v.good("container, manifest and the digests of %d files", len(m.Files))
	v.line("report", "%s, %s, for %s: number %d, published %s by %s",
		m.Name, report.PeriodWords(m.Period), orInternal(m.CustomerName), m.Number, m.PublishedAt, m.PublishedBy)
	differs, by, err := a.Recompute()
	if err != nil {
		v.bad("the account cannot be recomputed: %s", err)
		return nil
	}
	if by != m.Evidence {
		differs = append(differs, fmt.Sprintf("the manifest says that the evidence is %s; it is %s", m.Evidence, by))
	}
	more, err := derived(a)
	if err != nil {
		return err
	}
	for _, d := range append(differs, more...) {
		v.bad("%s", d)
	}
	if len(differs)+len(more) == 0 {
		v.good("every figure, recomputed from %s", recomputedFrom[by])
	}
	if by == seal.ByStretches {
		v.note("not all measurements are in it, which were not all kept or too many: response times are not recomputed")
	}
	v.line("code", "%s", m.Link(a.Encoded).Code())
	return nil
}

var recomputedFrom = map[string]string{seal.ByMeasurements: "all measurements", seal.ByStretches: "what was judged of the measurements"}

func orInternal(customer string) string {
	if customer == "" {
		return "ourselves"
	}
	return customer
}

// derived compares what the report says beside the account with what follows from it.
func derived(a *seal.Archive) ([]string, error) {
	var c report.Content
	if err := json.Unmarshal(a.Files[seal.ReportName], &c); err != nil {
		return nil, fmt.Errorf("%s: %w", seal.ReportName, err)
	}
	var out []string
	rows, err := c.CSV()
	if err != nil {
		return nil, err
	}
	if string(rows) != string(a.Files["report.csv"]) {
		out = append(out, "report.csv does not follow from report.json")
	}
	again := report.OutagesOf(&c.Account)
	for i := range again {
		if i < len(c.Outages) {
			again[i].Cause, again[i].Incident = c.Outages[i].Cause, c.Outages[i].Incident // words, that follow from nothing
		}
	}
	if !slices.Equal(again, c.Outages) {
		out = append(out, fmt.Sprintf("report.json: outages are %d that are not those of the account", len(c.Outages)))
	}
	m := a.Manifest
	for _, x := range [][3]string{
		{"agreement", c.Agreement, m.Agreement}, {"period", c.Period, m.Period},
		{"number", fmt.Sprint(c.Number), fmt.Sprint(m.Report)}, {"organisation", c.Organisation, m.Organisation},
	} {
		if x[1] != x[2] {
			out = append(out, fmt.Sprintf("report.json: %s is %q; the manifest says %q", x[0], x[1], x[2]))
		}
	}
	return out, nil
}

// chains checks that the archives of each customer follow from one another.
func (v *verification) chains(codes []string) error {
	by := map[string][]*seal.Archive{}
	for _, a := range v.read {
		who := a.Manifest.Organisation + "\x00" + a.Manifest.Customer
		by[who] = append(by[who], a)
	}
	if len(codes) > 0 && len(by) > 1 {
		return fmt.Errorf("--code is of one customer's reports; give those of one at a time")
	}
	for _, who := range slices.Sorted(maps.Keys(by)) {
		list := by[who]
		fmt.Fprintf(v.out, "The reports for %s\n", inLine(orInternal(list[0].Manifest.CustomerName)))
		wrong, missing := seal.Chain(list)
		unknown := []string{}
		if len(codes) > 0 {
			told, cannot, err := seal.Witness(codes, list)
			if err != nil {
				return err
			}
			wrong, unknown = append(wrong, told...), cannot
		}
		for _, w := range wrong {
			v.bad("%s", w)
		}
		for _, m := range append(missing, unknown...) {
			v.note("%s", m)
		}
		if len(wrong) == 0 {
			v.good("%d of the chain, none of which contradicts another", len(list))
		}
	}
	return nil
}
