package instrument

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"html"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"kestite/core/definition"
)

// Secret is a credential with what must not be seen, and where it may go.
type Secret struct {
	Kind      string   `json:"kind"`
	User      string   `json:"user,omitempty"`
	Header    string   `json:"header,omitempty"`
	Parameter string   `json:"parameter,omitempty"`
	Origins   []string `json:"origins,omitempty"`
	Value     string   `json:"value"`
}

// mayGoTo says whether the secret is sent with a request: to its origins alone.
// One that names none, of an older server, stays with the first host.
func (c *Secret) mayGoTo(at *url.URL, home bool) bool {
	switch {
	case c == nil:
		return false
	case len(c.Origins) == 0:
		return home
	}
	return definition.AtOrigin(c.Origins, at.String())
}

// Sign adds the secret to a request, as its kind says. Who calls it has looked where the
// request goes.
func (c *Secret) Sign(req *http.Request) {
	switch c.Kind {
	case definition.Basic:
		req.SetBasicAuth(c.User, c.Value)
	case definition.Bearer:
		req.Header.Set("Authorization", "Bearer "+c.Value)
	case definition.InHeader:
		req.Header.Set(c.Header, c.Value)
	case definition.InQuery:
		if req.URL.RawQuery != "" {
			req.URL.RawQuery += "&"
		}
		req.URL.RawQuery += url.QueryEscape(c.Parameter) + "=" + url.QueryEscape(c.Value)
	}
}

// masked stands in place of what must not be seen.
const masked = "•••"

// forms are the ways in which an answer may repeat a secret.
func (c *Secret) forms() []string {
	plain := []string{c.Value}
	if c.Kind == definition.Basic {
		plain = append(plain, c.User+":"+c.Value)
	}
	var out []string
	for _, text := range plain {
		quoted, _ := json.Marshal(text)
		ascii := strconv.QuoteToASCII(text)
		out = append(out, text, url.QueryEscape(text), url.PathEscape(text), strings.Trim(string(quoted), `"`),
			strings.NewReplacer(`\u003c`, "<", `\u003e`, ">", `\u0026`, "&").Replace(strings.Trim(string(quoted), `"`)),
			ascii[1:len(ascii)-1],
			strings.ReplaceAll(text, "/", `\/`), html.EscapeString(text),
			strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&quot;", "'", "&apos;").Replace(text),
			strings.NewReplacer("&", "&#38;", "<", "&#60;", ">", "&#62;", `"`, "&#34;", "'", "&#x27;").Replace(text),
			hex.EncodeToString([]byte(text)))
		// In base64 what is encoded looks different by where in a text it stands:
		// the middle of each of three ways, with what its neighbours cannot change.
		for shift := range 3 {
			whole := base64.StdEncoding.EncodeToString(append(make([]byte, shift), text...))
			from, until := (shift*8+5)/6, (shift+len(text))*8/6
			if until-from >= 6 {
				out = append(out, whole[from:until], base64.URLEncoding.EncodeToString(append(make([]byte, shift), text...))[from:until])
			}
		}
	}
	// The longest first, so that of a form within another nothing is left over.
	slices.SortFunc(out, func(a, b string) int { return len(b) - len(a) })
	return slices.Compact(out)
}

// mask hides the secret wherever a server repeats it, in whatever usual form,
// capitals or not, and what in an address goes by the name of a secret.
func (x *exchange) mask(text string) string {
	if x.secret != nil {
		if x.hidden == nil {
			var any []string
			for _, f := range x.secret.forms() {
				any = append(any, regexp.QuoteMeta(f))
			}
			x.hidden = regexp.MustCompile("(?i)" + strings.Join(any, "|"))
		}
		text = x.hidden.ReplaceAllString(text, masked)
	}
	return inAddress.ReplaceAllStringFunc(text, func(found string) string {
		name, _, _ := strings.Cut(found[1:], "=")
		if !definition.SecretName(name) {
			return found
		}
		return found[:1] + name + "=" + masked
	})
}

// inAddress is a parameter in an address.
var inAddress = regexp.MustCompile(`[?&#;][A-Za-z0-9_.~-]{1,200}=[^&#;\s"'<>]*`)

func (x *exchange) masked(list []string) []string {
	out := make([]string, len(list))
	for i, text := range list {
		out[i] = x.mask(text)
	}
	return out
}
