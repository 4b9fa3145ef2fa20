package measure

// Findings are what a measurement saw beyond its measures: what a person wants
// to look at who asks why. Only what the kind of check yields is there.
type Findings struct {
	Remote   string    `json:"remote,omitempty" doc:"Address that answered"`
	Tried    []string  `json:"tried,omitempty" doc:"Addresses that did not answer, each with why"`
	Cut      bool      `json:"cut,omitempty" doc:"The body was longer than is read: its size is more than the measure says"`
	Trace    *Trace    `json:"trace,omitempty"`
	Response *Response `json:"response,omitempty" doc:"The answer as received, kept when the measurement failed"`
	Chain    []Link    `json:"chain,omitempty" doc:"Certificates, the leaf first"`
	Notes    []string  `json:"notes,omitempty" doc:"What is worth knowing of the measurement, and no fault"`
	Answers  []string  `json:"answers,omitempty" doc:"Records as the resolver gave them"`
	Visited  []string  `json:"visited,omitempty" doc:"Addresses that redirects led through, the first one first"`
}

// Empty says whether there is nothing in them.
func (f *Findings) Empty() bool {
	return f == nil || f.Remote == "" && !f.Cut && f.Trace == nil && f.Response == nil &&
		len(f.Chain)+len(f.Notes)+len(f.Answers)+len(f.Visited)+len(f.Tried) == 0
}

// Response is an HTTP answer as received, secrets masked.
type Response struct {
	Status  string   `json:"status"`
	Headers []string `json:"headers"`
	Body    string   `json:"body" doc:"Its first 16 KiB; what is no text is replaced by U+FFFD"`
	Cut     bool     `json:"cut" doc:"There was more of the body"`
}

// Link is one certificate of a chain.
type Link struct {
	Subject   string `json:"subject"`
	Issuer    string `json:"issuer"`
	NotBefore string `json:"not_before"`
	NotAfter  string `json:"not_after"`
	Key       string `json:"key" doc:"Algorithm and length, such as RSA 2048"`
	Signature string `json:"signature"`
	Serial    string `json:"serial"`
}

// Trace is a path as one measurement saw it.
type Trace struct {
	Method  string `json:"method"`
	Target  string `json:"target" doc:"Address that was traced"`
	Reached bool   `json:"reached"`
	End     string `json:"end,omitempty" doc:"Where and why it ended short of the target"`
	Route   string `json:"route" doc:"Fingerprint of the addresses along the path, hexadecimal"`
	Changed string `json:"changed,omitempty" doc:"How the route differs from the one before"`
	Hops    []Hop  `json:"hops"`
}

// Hop is what answered at one distance.
type Hop struct {
	TTL      int      `json:"ttl" doc:"Distance in hops, from 1"`
	Addrs    []string `json:"addrs" doc:"Who answered; empty: nobody did"`
	Names    []string `json:"names,omitempty" doc:"Reverse names, in the order of the addresses; empty where there is none"`
	Networks []string `json:"networks,omitempty" doc:"Whose network each address lies in, as people defined them; empty: unknown"`
	Sent     int      `json:"sent"`
	Answered int      `json:"answered"`
	// LossPercent is the loss up to here that later hops bear out; nil where
	// nothing can be known, because the hop is silent and later ones are not.
	LossPercent *float64 `json:"loss_percent"`
	MinMS       *float64 `json:"rtt_min_ms"`
	MeanMS      *float64 `json:"rtt_mean_ms"`
	MaxMS       *float64 `json:"rtt_max_ms"`
	Note        string   `json:"note,omitempty" doc:"What it said other than that the packet's time was up"`
}
