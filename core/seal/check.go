package seal

import (
	"bytes"
	"crypto/ed25519"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"slices"

	"kestite/core/account"
	"kestite/core/credit"
	"kestite/core/definition"
	"kestite/core/evidence"
	"kestite/core/measure"
	"kestite/core/response"
	"kestite/core/span"
	"kestite/core/verdict"
)

// Names of the files that an account is recomputed from and compared with.
const (
	BundleName       = "bundle.json"
	MeasurementsName = "measurements.csv"
	StretchesName    = "stretches.json"
	AccountName      = "account.json"
	ReportName       = "report.json"
)

// Lane is what was judged of one check at one location.
type Lane struct {
	Check     string            `json:"check"`
	Location  string            `json:"location"`
	Stretches []verdict.Stretch `json:"stretches"`
}

// SignedBy compares the signature with public keys, by id. The error says why it is not
// good: no signature, a key that was not given, another signature.
func (a *Archive) SignedBy(keys map[string]ed25519.PublicKey) error {
	m := a.Manifest
	switch {
	case m.Key == "" && len(a.Signature) == 0:
		return fmt.Errorf("it is not signed")
	case len(a.Signature) == 0 || m.Key == "":
		return fmt.Errorf("its signature is missing, or that of no key")
	}
	public, has := keys[m.Key]
	if !has {
		return fmt.Errorf("it is signed with the key %q, which was not given", m.Key)
	}
	if KeyID(public) != m.Key || !Signed(public, a.Encoded, a.Signature) {
		return fmt.Errorf("the signature is not that of the key %s on this manifest", m.Key)
	}
	return nil
}

// Recompute makes the account again from what the archive holds, and says what of the
// published figures differs, by path and value. by is what it was made from.
func (a *Archive) Recompute() (differs []string, by string, err error) {
	bundle, err := evidence.DecodeBundle(bytes.NewReader(a.Files[BundleName]))
	if err != nil {
		return nil, "", fmt.Errorf("%s: %w", BundleName, err)
	}
	compiled, err := definition.Compile(bundle)
	if err != nil {
		return nil, "", fmt.Errorf("%s: %w", BundleName, err)
	}
	made, by, err := a.made(compiled)
	if err != nil {
		return nil, by, err
	}
	again, err := EncodeAccounts(made)
	if err != nil {
		return nil, by, err
	}
	var recomputed, kept, report any
	if err := json.Unmarshal(again, &recomputed); err != nil {
		return nil, by, err
	}
	if err := json.Unmarshal(a.Files[AccountName], &kept); err != nil {
		return nil, by, fmt.Errorf("%s: %w", AccountName, err)
	}
	if err := json.Unmarshal(a.Files[ReportName], &report); err != nil {
		return nil, by, fmt.Errorf("%s: %w", ReportName, err)
	}
	skip := map[string]bool{}
	if by == ByStretches { // response times are of measurements alone
		skip["accounts[0].latency"], skip["account.latency"] = true, true
	}
	list, _ := recomputed.(map[string]any)["accounts"].([]any)
	if whole, is := kept.(map[string]any); is && len(list) == 1 {
		if one, is := whole["accounts"].([]any); is && len(one) == 1 {
			meanOfNone(one[0], list[0])
		}
	}
	differs = compare(differs, AccountName, "", kept, recomputed, skip)
	said, _ := report.(map[string]any)
	if len(list) != 1 || said == nil {
		return append(differs, fmt.Sprintf("%s: it holds %d accounts, a report has one", AccountName, len(list))), by, nil
	}
	differs = compare(differs, ReportName, "account", said["account"], list[0], skip)
	differs = owed(differs, a.Files[ReportName], made[0])
	if by == ByMeasurements {
		differs, err = a.timed(differs, compiled, made[0])
	}
	return differs, by, err
}

// meanOfNone writes the mean of no outages as an account that was kept does: earlier programs
// wrote 0, where there is nothing to take a mean of.
func meanOfNone(kept, made any) {
	mean := func(account any) map[string]any {
		of, _ := account.(map[string]any)
		of, _ = of["objectives"].(map[string]any)
		of, _ = of["mttr_s"].(map[string]any)
		return of
	}
	was, now := mean(kept), mean(made)
	if was != nil && now != nil && now["value_ms"] == nil && was["value_ms"] == 0.0 {
		now["value_ms"] = 0.0
	}
}

// timed adds what differs of the response times that a report states, which follow from
// the measurements.
func (a *Archive) timed(differs []string, bundle *definition.Compiled, of *account.Account) ([]string, error) {
	var said struct {
		Responses []response.Summary `json:"responses"`
	}
	if err := json.Unmarshal(a.Files[ReportName], &said); err != nil {
		return append(differs, fmt.Sprintf("%s: responses cannot be read: %v", ReportName, err)), nil
	}
	if len(said.Responses) == 0 {
		return differs, nil
	}
	within := span.Span{From: of.From, To: of.To}
	times := response.Times{Hours: span.Set{within}.Intersect(of.Clauses.Hours)}
	columns := map[string]string{}
	for _, c := range bundle.Services[of.Service].Checks() {
		if name, _, is := response.Measure(c.Kind); is && columns[c.ID] == "" {
			columns[c.ID] = name
		}
	}
	err := evidence.Answers(bytes.NewReader(a.Files[MeasurementsName]), MeasurementsName, func(check string) string { return columns[check] },
		func(check, location string, at span.Instant, outcome measure.Outcome, thousandths int64) {
			if response.Answered(outcome) {
				times.Add(response.Key{Check: check, Location: location}, columns[check], at, thousandths)
			}
		})
	if err != nil {
		return differs, err
	}
	again := times.Summaries()
	if len(again) != len(said.Responses) {
		return append(differs, fmt.Sprintf("%s: responses are of %d; recomputed they are of %d", ReportName, len(said.Responses), len(again))), nil
	}
	for i, r := range again {
		if r != said.Responses[i] {
			differs = append(differs, fmt.Sprintf("%s: responses[%d] is %s; recomputed it is %s", ReportName, i, shown(said.Responses[i]), shown(r)))
		}
	}
	return differs, nil
}

// owed adds what differs of the credit that a report states, which follows from its fee and
// the account.
func owed(differs []string, report []byte, a *account.Account) []string {
	var said struct {
		Credit *credit.Owed `json:"credit"`
	}
	if err := json.Unmarshal(report, &said); err != nil {
		return append(differs, fmt.Sprintf("%s: credit cannot be read: %v", ReportName, err))
	}
	if said.Credit == nil {
		return differs
	}
	again, err := credit.Of(&definition.Fee{Amount: said.Credit.Fee, Currency: said.Credit.Currency}, said.Credit.Direction, a)
	if err != nil {
		return append(differs, fmt.Sprintf("%s: credit: %v", ReportName, err))
	}
	if *again != *said.Credit {
		return append(differs, fmt.Sprintf("%s: credit is %s %% and %s; recomputed it is %s %% and %s", ReportName, said.Credit.Percent,
			said.Credit.Amount, again.Percent, again.Amount))
	}
	return differs
}

// made are the accounts that follow from the archive.
func (a *Archive) made(bundle *definition.Compiled) ([]*account.Account, string, error) {
	if rows, has := a.Files[MeasurementsName]; has {
		open := func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(rows)), nil }
		m, err := evidence.ReadMeasurements(bundle, MeasurementsName, open, nil)
		if err != nil {
			return nil, ByMeasurements, err
		}
		list, err := account.NewEvidence(bundle, m.Stretches, m.Timing).All()
		return list, ByMeasurements, err
	}
	source, err := Judged(a.Files[StretchesName])
	if err != nil {
		return nil, ByStretches, fmt.Errorf("%s: %w", StretchesName, err)
	}
	list, err := account.NewEvidence(bundle, source, nil).All()
	return list, ByStretches, err
}

// Judged reads stretches.json: what was judged of each check at each location, in the order
// of time.
func Judged(text []byte) (verdict.Source, error) {
	var lanes []Lane
	if err := json.Unmarshal(text, &lanes); err != nil {
		return nil, err
	}
	of := map[[2]string][]verdict.Stretch{}
	for _, l := range lanes {
		for i, s := range l.Stretches {
			if s.Last < s.First || s.Count < 1 || i > 0 && s.First <= l.Stretches[i-1].Last {
				return nil, fmt.Errorf("stretch %d of %s at %s, from %s, does not follow the one before it", i, l.Check, l.Location, s.First)
			}
		}
		of[[2]string{l.Check, l.Location}] = l.Stretches
	}
	return func(check, location string) []verdict.Stretch { return of[[2]string{check, location}] }, nil
}

// EncodeAccounts writes accounts as account.json holds them.
func EncodeAccounts(list []*account.Account) ([]byte, error) {
	text, err := json.MarshalIndent(account.Document{Format: account.Format, Accounts: list}, "", " ")
	return append(text, '\n'), err
}

// mostDiffering is how many differences are told.
const mostDiffering = 50

// compare adds what differs between two JSON values.
func compare(out []string, file, path string, kept, made any, skip map[string]bool) []string {
	if skip[path] || len(out) >= mostDiffering {
		return out
	}
	say := func() []string {
		return append(out, fmt.Sprintf("%s: %s is %s; recomputed it is %s", file, path, shown(kept), shown(made)))
	}
	switch k := kept.(type) {
	case map[string]any:
		m, is := made.(map[string]any)
		if !is {
			return say()
		}
		names := map[string]bool{}
		for n := range k {
			names[n] = true
		}
		for n := range m {
			names[n] = true
		}
		for _, n := range slices.Sorted(maps.Keys(names)) {
			below := n
			if path != "" {
				below = path + "." + n
			}
			out = compare(out, file, below, k[n], m[n], skip)
		}
		return out
	case []any:
		m, is := made.([]any)
		if !is || len(m) != len(k) {
			return say()
		}
		for i := range k {
			out = compare(out, file, fmt.Sprintf("%s[%d]", path, i), k[i], m[i], skip)
		}
		return out
	}
	if kept != made {
		return say()
	}
	return out
}

func shown(v any) string {
	text, err := json.Marshal(v)
	const most = 120
	if err != nil || len(text) > most {
		return fmt.Sprintf("%d bytes long", len(text))
	}
	return string(text)
}

// Chain says what is wrong with archives of one customer as a chain, and which reports
// before or between them were not given. They are sorted by number.
func Chain(archives []*Archive) (wrong, missing []string) {
	list := slices.Clone(archives)
	slices.SortFunc(list, func(a, b *Archive) int { return int(a.Manifest.Number - b.Manifest.Number) })
	for i, a := range list {
		m := a.Manifest
		if (m.Number == 1) != (m.Previous == nil) || m.Previous != nil && m.Previous.Number != m.Number-1 || m.Number < 1 {
			wrong = append(wrong, fmt.Sprintf("number %d names what cannot be before it", m.Number))
			continue
		}
		if i > 0 && list[i-1].Manifest.Number == m.Number {
			if !bytes.Equal(list[i-1].Encoded, a.Encoded) {
				wrong = append(wrong, fmt.Sprintf("two different reports have the number %d: the chain was forked", m.Number))
			}
			continue
		}
		if m.Previous == nil {
			continue
		}
		if i == 0 || list[i-1].Manifest.Number != m.Number-1 {
			missing = append(missing, fmt.Sprintf("number %d, the one before number %d, was not given", m.Number-1, m.Number))
			continue
		}
		if before := list[i-1].Manifest.Link(list[i-1].Encoded); before != *m.Previous {
			wrong = append(wrong, fmt.Sprintf("number %d does not follow from number %d as given: the chain was forked", m.Number, before.Number))
		}
	}
	return wrong, missing
}

// Witness says what is wrong between codes and the chain that archives make: each code is
// of one of them, or of one that was not given.
func Witness(codes []string, archives []*Archive) (wrong, unknown []string, err error) {
	known := map[int64]string{}
	for _, a := range archives {
		l := a.Manifest.Link(a.Encoded)
		known[l.Number] = l.Code()
		if p := a.Manifest.Previous; p != nil && known[p.Number] == "" {
			known[p.Number] = p.Code()
		}
	}
	said := map[int64]string{}
	for _, c := range codes {
		number, letters, err := ParseCode(c)
		if err != nil {
			return nil, nil, err
		}
		if other, has := said[number]; has && other != letters {
			wrong = append(wrong, fmt.Sprintf("two codes of number %d differ: two different histories were told", number))
		}
		said[number] = letters
		code, has := known[number]
		switch {
		case !has:
			unknown = append(unknown, fmt.Sprintf("the code of number %d can be compared with nothing that was given", number))
		default:
			if _, own, err := ParseCode(code); err != nil || own != letters {
				wrong = append(wrong, fmt.Sprintf("the code of number %d is not that of the report given: another was told then", number))
			}
		}
	}
	return wrong, unknown, nil
}
