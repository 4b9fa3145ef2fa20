package definition

import (
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"golang.org/x/net/http/httpguts"

	"kestite/core/calendar"
	"kestite/core/span"
)

// Ways of reaching somebody.
const (
	Mail    = "mail"    // an e-mail address
	SMS     = "sms"     // a telephone number
	Webhook = "webhook" // a web address that takes JSON
	Chat    = "chat"    // the web address of a chat room that takes {"text": …}
	Syslog  = "syslog"  // a collector of RFC 5424 messages
	Script  = "script"  // a file in the directory that the server may run scripts of
	Inbox   = "inbox"   // the list of notices in the application; everybody has it
)

// RelaySpec is what takes our messages and passes them on: a mail server (RFC 5321), or
// the web address of an SMS gateway. Those of one kind are tried from the lowest rank.
type RelaySpec struct {
	Name       string `json:"name" minLength:"1" maxLength:"80"`
	Kind       string `json:"kind" enum:"mail,sms"`
	Address    string `json:"address" minLength:"1" maxLength:"500" doc:"Of a mail server smtp://host:587 (STARTTLS, RFC 3207) or smtps://host:465 (TLS at once, RFC 8314); of an SMS gateway an http or https address"`
	Plain      bool   `json:"plain,omitempty" doc:"Of smtp: send without TLS where the server offers none; nothing is signed in with then"`
	Authority  string `json:"authority,omitempty" maxLength:"20000" doc:"Certificates in PEM that are trusted beside those of the system"`
	Sender     string `json:"sender" minLength:"1" maxLength:"200" doc:"What messages come from: a mail address, or the name or number that the gateway shows"`
	Credential string `json:"credential,omitempty" maxLength:"120" doc:"Id of what signs in there: basic for a mail server; basic, bearer or header for a gateway"`
	Body       string `json:"body,omitempty" maxLength:"2000" doc:"Of an SMS gateway: the JSON it takes, with {to}, {text} and {sender}; absent: {\"to\": \"{to}\", \"from\": \"{sender}\", \"text\": \"{text}\"}"`
	Rank       int    `json:"rank,omitempty" minimum:"0" maximum:"100" doc:"Lower ones are tried first, others where those fail"`
	Note       string `json:"note,omitempty" maxLength:"2000"`
}

// SMSBody is what an SMS gateway takes unless its relay says otherwise.
const SMSBody = `{"to": "{to}", "from": "{sender}", "text": "{text}"}`

// ContactSpec is a contact method that belongs to no single person: a shared mailbox, a
// number, a chat room, another program.
type ContactSpec struct {
	Name       string        `json:"name" minLength:"1" maxLength:"80"`
	Kind       string        `json:"kind" enum:"mail,sms,webhook,chat,syslog,script"`
	Address    string        `json:"address" minLength:"1" maxLength:"500" doc:"A mail address; a number as +4670123456 (ITU-T E.164); an http or https address; of syslog udp://host:514, tcp://host:601 or tls://host:6514; of a script the name of its file in the directory that the server was started with"`
	Args       []string      `json:"args,omitempty" maxItems:"20" doc:"Of a script: its arguments, with placeholders, none of which is read by a shell; the message is its standard input"`
	Credential string        `json:"credential,omitempty" maxLength:"120" doc:"Of webhook and chat: id of what signs in there"`
	Signing    string        `json:"signing,omitempty" maxLength:"120" doc:"Of a webhook: id of the credential whose secret signs the body with HMAC-SHA256 (RFC 2104), in the header Kestite-Signature"`
	Method     string        `json:"method,omitempty" enum:"POST,PUT" default:"POST"`
	Headers    []FixedHeader `json:"headers,omitempty" maxItems:"20" doc:"Of a webhook: sent along; secrets belong in a credential"`
	Body       string        `json:"body,omitempty" maxLength:"8000" doc:"Of a webhook: the JSON that is sent, with placeholders; absent: all there is to say"`
	Expect     int           `json:"expect,omitempty" minimum:"200" maximum:"299" doc:"Of a webhook: the only status that counts as taken; absent: any from 200 to 299"`
	Facility   int           `json:"facility,omitempty" minimum:"0" maximum:"23" doc:"Of syslog, RFC 5424 §6.2.1; absent: 16, local0"`
	Active     *WeeklyPlan   `json:"active,omitempty" doc:"When it may be used; what is due outside waits until then. Absent: always"`
	Note       string        `json:"note,omitempty" maxLength:"2000"`
}

// FixedHeader is a header that is sent as it stands.
type FixedHeader struct {
	Name  string `json:"name" minLength:"1" maxLength:"200"`
	Value string `json:"value" maxLength:"1000"`
}

// PoolSpec is people who can be told together, or of whom one is on duty.
type PoolSpec struct {
	Name      string     `json:"name" minLength:"1" maxLength:"80"`
	Members   []string   `json:"members" minItems:"1" maxItems:"50" doc:"Ids of people, in the order in which they take their turns"`
	Rotation  *Rotation  `json:"rotation,omitempty" doc:"One at a time is on duty; absent: all are told together"`
	Overrides []Override `json:"overrides,omitempty" maxItems:"200" doc:"Who stands in when"`
	Note      string     `json:"note,omitempty" maxLength:"2000"`
}

// Rotation is how duty goes round.
type Rotation struct {
	Timezone string `json:"timezone" minLength:"1" doc:"On whose clocks duty is handed over"`
	Every    string `json:"every" enum:"day,week"`
	Weekday  string `json:"weekday,omitempty" enum:"MO,TU,WE,TH,FR,SA,SU" doc:"Of every week: the day of the hand-over; absent: MO"`
	At       string `json:"at" minLength:"1" doc:"Time of the hand-over, 08:00"`
	From     string `json:"from" minLength:"1" doc:"The day from which the first member is on duty, 2006-01-02; before it nobody is"`
}

// Override puts somebody else on duty for a while.
type Override struct {
	From   string `json:"from" minLength:"1" doc:"Wall time in the zone of the rotation, 2006-01-02T15:04"`
	To     string `json:"to" minLength:"1"`
	Person string `json:"person" minLength:"1" doc:"Id of who is on duty; need not be a member"`
}

// NoticePlanSpec says who is told what of an incident, how and when.
type NoticePlanSpec struct {
	Name        string       `json:"name" minLength:"1" maxLength:"80"`
	Steps       []NoticeStep `json:"steps" minItems:"1" maxItems:"20"`
	NoAllClear  bool         `json:"no_all_clear,omitempty" doc:"Those who were told are not told that it is over"`
	RemindS     int64        `json:"remind_s,omitempty" minimum:"0" maximum:"604800" doc:"Who acknowledged it is reminded after so many seconds, and again; 0: never"`
	Everywhere  bool         `json:"everywhere,omitempty" doc:"For every incident that meets the conditions; otherwise for those of services that name the plan, or whose team does"`
	Severities  []string     `json:"severities,omitempty" maxItems:"3" enum:"critical,major,minor" doc:"Condition: how severe it is; absent: any"`
	About       []string     `json:"about,omitempty" maxItems:"4" enum:"service,check,location,agreement" doc:"Condition: what it is about; absent: anything"`
	CheckKinds  []string     `json:"check_kinds,omitempty" maxItems:"9" doc:"Condition on incidents of checks: their kinds; absent: any"`
	Tags        []string     `json:"tags,omitempty" maxItems:"20" doc:"Condition: the service has one of these tags; absent: any"`
	Selections  []string     `json:"selections,omitempty" maxItems:"20" doc:"Condition: it is about something in one of these selections, by id; absent: anything"`
	Agreed      string       `json:"agreed,omitempty" enum:"inside,outside" doc:"Condition on the moment: inside the service hours of some agreement of the service, or outside all of them; its clock stands still otherwise, and a service that was promised to nobody has no service hours. Absent: at any"`
	Hours       *WeeklyPlan  `json:"hours,omitempty" doc:"Steps are told within these; absent: always"`
	Outside     string       `json:"outside,omitempty" enum:"wait,digest,plan" doc:"What is due outside the hours waits for them (absent: that), stands in the next digest, or is left to another plan until they begin"`
	Instead     string       `json:"instead,omitempty" maxLength:"120" doc:"Id of the plan that tells outside the hours"`
	Digest      *Digest      `json:"digest,omitempty" doc:"When what is not told at once is told in one message; of a plan without hours that is all"`
	MostPerHour int          `json:"most_per_hour,omitempty" minimum:"0" maximum:"10000" doc:"So many incidents an hour begin a message of their own to one receiver; the rest is summed up in one. 0: no bound"`
	Note        string       `json:"note,omitempty" maxLength:"2000"`
}

// Digest is when what happened meanwhile is told in one message to each receiver.
type Digest struct {
	Timezone string   `json:"timezone" minLength:"1" doc:"On whose clocks"`
	At       []string `json:"at" minItems:"1" maxItems:"24" doc:"Times of day, 07:30"`
	Days     []string `json:"days,omitempty" maxItems:"7" enum:"MO,TU,WE,TH,FR,SA,SU" doc:"On these days; absent: every day"`
}

// What a plan does with what is due outside its hours.
const (
	OutsideWait   = "wait"
	OutsideDigest = "digest"
	OutsidePlan   = "plan"
)

// NoticeStep is what happens after a while that nobody has acknowledged the incident.
type NoticeStep struct {
	AfterS  int64       `json:"after_s" minimum:"0" maximum:"604800" doc:"So many seconds after it opened, unless it is acknowledged or over by then; the clock stands still while somebody has acknowledged it"`
	Tell    []Recipient `json:"tell" minItems:"1" maxItems:"20"`
	By      []string    `json:"by,omitempty" maxItems:"2" enum:"mail,sms" doc:"By which kinds of contact methods people are reached; absent: all they have"`
	RepeatS int64       `json:"repeat_s,omitempty" minimum:"0" maximum:"86400" doc:"Told again after so many seconds, and again; 0: once"`
	Most    int         `json:"most,omitempty" minimum:"0" maximum:"100" doc:"How often again at most; absent: 100"`
}

// MostRepeats is how often a step is repeated at most.
const MostRepeats = 100

// Recipient is one of a pool, a person or a shared contact method.
type Recipient struct {
	Pool    string `json:"pool,omitempty" maxLength:"120"`
	Person  string `json:"person,omitempty" maxLength:"120"`
	Contact string `json:"contact,omitempty" maxLength:"120"`
}

// Called is what people call what a spec defines.
func (r RelaySpec) Called() string { return r.Name }

// Called is what people call what a spec defines.
func (c ContactSpec) Called() string { return c.Name }

// Called is what people call what a spec defines.
func (p PoolSpec) Called() string { return p.Name }

// Called is what people call what a spec defines.
func (p NoticePlanSpec) Called() string { return p.Name }

// Placeholders are what texts of messages may name, each in braces.
var Placeholders = []string{"what", "headline", "severity", "service", "began", "incident", "link", "detail"}

// relayed are the placeholders of what an SMS gateway takes.
var relayed = []string{"to", "text", "sender"}

var slot = regexp.MustCompile(`\{([A-Za-z_]+)\}`)

// named refuses a text that names what there is not.
func named(path, text string, known []string) error {
	for _, m := range slot.FindAllStringSubmatch(text, -1) {
		if !slices.Contains(known, m[1]) {
			return fault(path, "{%s} is no placeholder; there are {%s}", m[1], strings.Join(known, "}, {"))
		}
	}
	return nil
}

// jsonOf refuses a text that is no JSON once its placeholders are filled in.
func jsonOf(path, text string) error {
	if text == "" || json.Valid([]byte(slot.ReplaceAllString(text, "x"))) {
		return nil
	}
	return fault(path, `is no JSON; write it as {"text": "{headline}"}, each placeholder within quotation marks`)
}

// Filled is a text with its placeholders filled in, each as escape writes it.
func Filled(text string, values map[string]string, escape func(string) string) string {
	return slot.ReplaceAllStringFunc(text, func(m string) string {
		v, known := values[m[1:len(m)-1]]
		if !known {
			return m
		}
		return escape(v)
	})
}

var telephone = regexp.MustCompile(`^\+[1-9][0-9]{5,14}$`)

var localPart = regexp.MustCompile("^[A-Za-z0-9!#$%&'*+/=?^_`{|}~-]+(\\.[A-Za-z0-9!#$%&'*+/=?^_`{|}~-]+)*$")

// MailAddress says what is wrong with a mail address (RFC 5322 addr-spec, of dot-atoms).
func MailAddress(path, address string) error {
	local, host, _ := strings.Cut(address, "@")
	ascii, err := ASCIIName(host)
	if err != nil || !localPart.MatchString(local) || !hostName.MatchString(ascii) {
		return fault(path, "%q is no mail address; write it as name@harbour.example", address)
	}
	return plain(path, address)
}

// Number says what is wrong with a telephone number, and writes it without spaces.
func Number(path, text string) (string, error) {
	out := strings.NewReplacer(" ", "", "-", "", "(", "", ")", "").Replace(text)
	if !telephone.MatchString(out) {
		return "", fault(path, "%q is no telephone number; write it with the country, as +46 70 123 456", text)
	}
	return out, nil
}

// Validate of a relay.
func (r RelaySpec) Validate() error {
	if err := called("name", r.Name); err != nil {
		return err
	}
	if r.Authority != "" && !x509.NewCertPool().AppendCertsFromPEM([]byte(r.Authority)) {
		return fault("authority", "holds no certificate in PEM; paste it with its lines BEGIN and END")
	}
	if r.Kind == SMS {
		if r.Plain {
			return fault("plain", "is for mail servers; take it away")
		}
		if _, err := Origin(r.Address); err != nil || !strings.HasPrefix(r.Address, "http") {
			return fault("address", "%q is no web address; write it as https://gateway.example/messages", withoutSecrets(r.Address))
		}
		if err := named("body", r.Body, relayed); err != nil {
			return err
		}
		if err := jsonOf("body", r.Body); err != nil {
			return err
		}
		return called("sender", r.Sender)
	}
	if r.Body != "" {
		return fault("body", "is for SMS gateways; take it away")
	}
	if _, _, err := r.Server(); err != nil {
		return err
	}
	if r.Plain && (r.Credential != "" || strings.HasPrefix(r.Address, "smtps:")) {
		return fault("plain", "without TLS nobody signs in, and smtps is TLS; take one of them away")
	}
	return MailAddress("sender", r.Sender)
}

// Server is the host:port of a mail server, and whether TLS begins at once.
func (r RelaySpec) Server() (string, bool, error) {
	u, err := url.Parse(r.Address)
	if err != nil || u.Hostname() == "" || u.Scheme != "smtp" && u.Scheme != "smtps" || strings.Trim(u.Path,
		"/") != "" || u.User != nil || u.RawQuery != "" {
		return "", false, fault("address", "%q is no mail server; write it as smtp://host:587 or smtps://host:465", withoutSecrets(r.Address))
	}
	return hostPort(u, map[string]string{"smtp": "587", "smtps": "465"}[u.Scheme]), u.Scheme == "smtps", nil
}

// Collector is how and where a syslog collector is reached: udp, tcp or tls, and host:port.
func (c ContactSpec) Collector() (how, address string, err error) {
	u, err := url.Parse(c.Address)
	usual, known := map[string]string{"udp": "514", "tcp": "601", "tls": "6514"}[urlScheme(u)]
	if err != nil || !known || u.Hostname() == "" || strings.Trim(u.Path, "/") != "" || u.User != nil {
		return "", "", fault("address", "%q is no collector; write it as udp://host:514, tcp://host:601 or tls://host:6514",
			withoutSecrets(c.Address))
	}
	return u.Scheme, hostPort(u, usual), nil
}

// hostPort is the host and port of an address, with the usual port where it names none.
func hostPort(u *url.URL, usual string) string {
	if u.Port() != "" {
		return u.Host
	}
	return strings.TrimSuffix(u.Host, ":") + ":" + usual
}

func urlScheme(u *url.URL) string {
	if u == nil {
		return ""
	}
	return u.Scheme
}

// Validate of a shared contact method.
func (c ContactSpec) Validate() error {
	if err := called("name", c.Name); err != nil {
		return err
	}
	if _, err := active("active", c.Active); err != nil {
		return err
	}
	web := c.Kind == Webhook || c.Kind == Chat
	switch {
	case c.Credential != "" && !web:
		return fault("credential", "is for webhooks and chat rooms; take it away")
	case c.Kind != Webhook && (c.Signing != "" || len(c.Headers) > 0 || c.Body != "" || c.Expect != 0):
		return fault("kind", "signing, headers, body and the expected status are for webhooks; take them away")
	case c.Facility != 0 && c.Kind != Syslog:
		return fault("facility", "is for syslog; take it away")
	case len(c.Args) > 0 && c.Kind != Script:
		return fault("args", "are for scripts; take them away")
	}
	for i, h := range c.Headers {
		path := fmt.Sprintf("headers[%d]", i)
		switch {
		case !httpguts.ValidHeaderFieldName(h.Name):
			return fault(path+".name", "%q is no name of a header", h.Name)
		case !httpguts.ValidHeaderFieldValue(h.Value):
			return fault(path+".value", "cannot stand in a header; take line breaks out")
		case SecretName(h.Name):
			return fault(path+".name", "%s is usually a secret; keep it in a credential", h.Name)
		case slices.ContainsFunc([]string{"Content-Length", "Content-Type", "Host", "Idempotency-Key", "Kestite-Signature"},
			func(own string) bool { return strings.EqualFold(own, h.Name) }):
			return fault(path+".name", "%s is set by us; take it away", h.Name)
		}
	}
	if err := named("body", c.Body, Placeholders); err != nil {
		return err
	}
	if err := jsonOf("body", c.Body); err != nil {
		return err
	}
	switch c.Kind {
	case Mail:
		return MailAddress("address", c.Address)
	case SMS:
		_, err := Number("address", c.Address)
		return err
	case Syslog:
		_, _, err := c.Collector()
		return err
	case Script:
		return c.validScript()
	}
	if _, err := Origin(c.Address); err != nil || !strings.HasPrefix(c.Address, "http") {
		return fault("address", "%q is no web address; write it as https://host/path", withoutSecrets(c.Address))
	}
	return nil
}

// scriptName is what a script may be called: a file of the directory itself.
var scriptName = regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9_.-]*$`)

func (c ContactSpec) validScript() error {
	if !scriptName.MatchString(c.Address) {
		return fault("address", "%q is no name of a script; give that of a file in the directory itself, with letters, digits, dots, dashes and underscores",
			c.Address)
	}
	for i, a := range c.Args {
		path := fmt.Sprintf("args[%d]", i)
		if err := plain(path, a); err != nil {
			return err
		}
		if len(a) > 500 {
			return fault(path, "has %d bytes; 500 are the most", len(a))
		}
		if err := named(path, a, Placeholders); err != nil {
			return err
		}
	}
	return nil
}

// Validate of a pool.
func (p PoolSpec) Validate() error {
	if err := called("name", p.Name); err != nil {
		return err
	}
	for i, m := range p.Members {
		if m == "" || slices.Contains(p.Members[:i], m) {
			return fault(fmt.Sprintf("members[%d]", i), "stands there twice, or is nobody; take it away")
		}
	}
	if p.Rotation == nil {
		if len(p.Overrides) > 0 {
			return fault("overrides", "stand in for nobody where all are told; take them away, or let duty go round")
		}
		return nil
	}
	r := *p.Rotation
	if _, err := r.Compile(); err != nil {
		return Within("rotation", err)
	}
	for i, o := range p.Overrides {
		path := fmt.Sprintf("overrides[%d]", i)
		from, err := Minute(o.From)
		if err != nil {
			return fault(path+".from", "%v", err)
		}
		to, err := Minute(o.To)
		if err != nil {
			return fault(path+".to", "%v", err)
		}
		if !from.Before(to) {
			return fault(path+".to", "%s is not after %s; give a later time", o.To, o.From)
		}
		if o.Person == "" {
			return fault(path+".person", "is missing; say who is on duty")
		}
	}
	return nil
}

// Minute reads a wall time to the minute, or to the second.
func Minute(s string) (calendar.Wall, error) {
	if w, err := calendar.ParseWall(s + ":00"); err == nil {
		return w, nil
	}
	w, err := calendar.ParseWall(s)
	if err != nil {
		return w, fmt.Errorf("%q is no time; write it as 2026-05-04T08:00", s)
	}
	return w, nil
}

// CompiledRotation is a rotation with its zone and times resolved.
type CompiledRotation struct {
	Location *time.Location
	Days     int // from one hand-over to the next
	At       int64
	First    calendar.Wall // midnight of the day of the first hand-over
}

// Compile resolves a rotation. The error is a *Fault.
func (r Rotation) Compile() (CompiledRotation, error) {
	out := CompiledRotation{Days: 1}
	var err error
	if out.Location, err = calendar.Zone(r.Timezone); err != nil {
		return out, fault("timezone", "%v", err)
	}
	if out.At, err = calendar.ParseClock(r.At, false); err != nil {
		return out, fault("at", "%v", err)
	}
	if out.First, err = calendar.ParseDate(r.From); err != nil {
		return out, fault("from", "%v", err)
	}
	switch {
	case r.Every == "day" && r.Weekday != "":
		return out, fault("weekday", "duty that goes round by the day has none; take it away")
	case r.Every == "week":
		out.Days = 7
		day := weekdays["MO"]
		if r.Weekday != "" {
			known := false
			if day, known = weekdays[r.Weekday]; !known {
				return out, fault("weekday", "%q is no day; it is one of MO, TU, WE, TH, FR, SA, SU", r.Weekday)
			}
		}
		if out.First.Weekday() != day {
			return out, fault("from", "%s is a %s; duty is handed over on a %s, so begin on one", r.From, out.First.Weekday(), day)
		}
	}
	return out, nil
}

// Validate of a notice plan.
func (p NoticePlanSpec) Validate() error {
	if err := called("name", p.Name); err != nil {
		return err
	}
	if _, err := active("hours", p.Hours); err != nil {
		return err
	}
	before := int64(-1)
	for i, s := range p.Steps {
		path := fmt.Sprintf("steps[%d]", i)
		if s.AfterS < before {
			return fault(path+".after_s", "is before the step above it; put the steps in the order of time")
		}
		before = s.AfterS
		if s.RepeatS > 0 && s.RepeatS < 60 {
			return fault(path+".repeat_s", "%d s is too often; at least a minute lies between two messages", s.RepeatS)
		}
		if s.Most > 0 && s.RepeatS == 0 {
			return fault(path+".most", "stands beside no repetition; say how often again, or take it away")
		}
		if err := receivers(path+".tell", s.Tell); err != nil {
			return err
		}
	}
	for i, tag := range p.Tags {
		if err := called(fmt.Sprintf("tags[%d]", i), tag); err != nil {
			return err
		}
	}
	return p.validOutside()
}

// validOutside says what is wrong with what happens outside the hours.
func (p NoticePlanSpec) validOutside() error {
	if p.Digest != nil {
		if _, err := p.Digest.Compile(); err != nil {
			return Within("digest", err)
		}
	}
	switch {
	case p.Outside != "" && p.Hours == nil:
		return fault("outside", "a plan without hours has nothing outside them; give it hours, or take this away")
	case p.Outside == OutsidePlan && p.Instead == "":
		return fault("instead", "is missing; say which plan tells outside the hours")
	case p.Outside != OutsidePlan && p.Instead != "":
		return fault("instead", "is for what another plan tells outside the hours; say so in outside, or take it away")
	case p.Outside == OutsideDigest && p.Digest == nil:
		return fault("digest", "is missing; say at which times digests are sent")
	case p.Hours != nil && p.Outside != OutsideDigest && p.Digest != nil:
		return fault("digest", "is for what is due outside the hours; say so in outside, or take it away")
	}
	return nil
}

// CompiledDigest is a digest with its zone and times resolved.
type CompiledDigest struct {
	location *time.Location
	at       []int64 // ms after midnight, in order
	days     []time.Weekday
}

// Compile resolves a digest. The error is a *Fault.
func (d Digest) Compile() (CompiledDigest, error) {
	var out CompiledDigest
	var err error
	if out.location, err = calendar.Zone(d.Timezone); err != nil {
		return out, fault("timezone", "%v", err)
	}
	if len(d.At) == 0 {
		return out, fault("at", "is empty, which is never; add a time")
	}
	for i, at := range d.At {
		ms, err := calendar.ParseClock(at, false)
		if err != nil {
			return out, fault(fmt.Sprintf("at[%d]", i), "%v", err)
		}
		if slices.Contains(out.at, ms) {
			return out, fault(fmt.Sprintf("at[%d]", i), "%s stands there twice", at)
		}
		out.at = append(out.at, ms)
	}
	slices.Sort(out.at)
	for i, day := range d.Days {
		w, known := weekdays[day]
		if !known {
			return out, fault(fmt.Sprintf("days[%d]", i), "%q is no day; it is one of MO, TU, WE, TH, FR, SA, SU", day)
		}
		out.days = append(out.days, w)
	}
	return out, nil
}

// Next is when the next digest after an instant is sent.
func (d CompiledDigest) Next(after span.Instant) span.Instant {
	day := calendar.WallAt(after, d.location).At(0)
	for n := range 9 { // a week has each of its days, and one clock change less than a day
		of := day.AddDays(n)
		if len(d.days) > 0 && !slices.Contains(d.days, of.Weekday()) {
			continue
		}
		for _, ms := range d.at {
			if at := of.At(ms).Instant(d.location, calendar.Shift); at > after {
				return at
			}
		}
	}
	return after.Add(span.Day) // not reached: some day of eight in a row is one of them
}

// receivers refuses entries that name none or several, and one that stands there twice.
func receivers(path string, list []Recipient) error {
	for i, r := range list {
		n := 0
		for _, id := range []string{r.Pool, r.Person, r.Contact} {
			if id != "" {
				n++
			}
		}
		if n != 1 {
			return fault(fmt.Sprintf("%s[%d]", path, i), "names %d receivers; name one: a pool, a person or a contact method", n)
		}
		if slices.Contains(list[:i], r) {
			return fault(fmt.Sprintf("%s[%d]", path, i), "is told here already; take one of them away")
		}
	}
	return nil
}

// active resolves hours in which something may be used; nil is always.
func active(path string, w *WeeklyPlan) (calendar.Hours, error) {
	if w == nil {
		return calendar.Hours{}, nil
	}
	if len(w.Weekly) == 0 {
		return calendar.Hours{}, fault(path+".weekly", "is empty, which is never; add a row, or take the hours away")
	}
	h, err := CompileHours(ServiceHours{Plan: w})
	return h, Within(path, err)
}

// ActiveHours resolves hours in which something may be used; nil is always. The error is
// a *Fault.
func ActiveHours(w *WeeklyPlan) (calendar.Hours, error) { return active("active", w) }

// Recipients are all that a plan tells.
func (p NoticePlanSpec) Recipients() []Recipient {
	var out []Recipient
	for _, s := range p.Steps {
		for _, r := range s.Tell {
			if !slices.Contains(out, r) {
				out = append(out, r)
			}
		}
	}
	return out
}

// Marks tell the steps of a plan apart by whom they tell and how: a step keeps its mark
// when others are put before it, and when it is due earlier or later.
func (p NoticePlanSpec) Marks() []string {
	out := make([]string, len(p.Steps))
	times := map[string]int{}
	for i, s := range p.Steps {
		var b strings.Builder
		for _, r := range s.Tell {
			fmt.Fprintf(&b, "%q %q %q\n", r.Pool, r.Person, r.Contact)
		}
		fmt.Fprintf(&b, "%q", s.By)
		sum := sha256.Sum256([]byte(b.String()))
		mark := hex.EncodeToString(sum[:6])
		if times[mark]++; times[mark] > 1 {
			mark += fmt.Sprintf("+%d", times[mark])
		}
		out[i] = mark
	}
	return out
}

// Bounded is how often a step is repeated at most.
func (s NoticeStep) Bounded() int {
	switch {
	case s.RepeatS == 0:
		return 0
	case s.Most == 0:
		return MostRepeats
	}
	return s.Most
}

// In says by which of the kinds people are reached.
func (s NoticeStep) In(kind string) bool { return len(s.By) == 0 || slices.Contains(s.By, kind) }
