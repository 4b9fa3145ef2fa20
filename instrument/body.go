package instrument

import (
	"bytes"
	"compress/flate"
	"compress/gzip"
	"compress/zlib"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"mime"
	"net/http"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/theory/jsonpath"
	"golang.org/x/net/html/charset"
	"golang.org/x/text/encoding"

	"kestite/core/definition"
)

// text is a body as it is read by people: unpacked (RFC 9110 §8.4), and in UTF-8
// from the character set that the page is in.
type text struct {
	bytes []byte
	whole bool   // nothing of it is missing
	fault string // why it cannot be read
}

// Bounds of reading a body, so that one answer takes no more than 64 MiB.
const (
	mostCodings    = 2
	mostJSON       = 8 << 20
	mostJSONValues = 100_000
	mostJSONDepth  = 500
)

// readable is the body, or its beginning, as text.
func readable(body []byte, headers http.Header, whole bool, most int64) text {
	out := text{bytes: body, whole: whole}
	var codings []string
	for _, list := range headers.Values("Content-Encoding") {
		for c := range strings.SplitSeq(list, ",") {
			if c = strings.ToLower(strings.TrimSpace(c)); c != "" && c != "identity" {
				codings = append(codings, c)
			}
		}
	}
	if len(codings) > mostCodings {
		return text{fault: fmt.Sprintf("it is packed %d times over", len(codings))}
	}
	slices.Reverse(codings) // they are listed in the order in which they were applied
	for _, c := range codings {
		if out = unpacked(out, c, most); out.fault != "" {
			return out
		}
	}
	set, why := character(out.bytes, headers.Get("Content-Type"))
	if why != "" {
		return text{fault: why}
	}
	if set == nil {
		return out
	}
	decoded, err := io.ReadAll(io.LimitReader(set.NewDecoder().Reader(bytes.NewReader(out.bytes)), most+1))
	if err != nil {
		return text{fault: "it is not in the character set that it says it is in"}
	}
	if int64(len(decoded)) > most {
		decoded, out.whole = decoded[:most], false
	}
	out.bytes = decoded
	return out
}

// unpacked undoes one content coding.
func unpacked(in text, coding string, most int64) text {
	var r io.Reader
	var err error
	switch coding {
	case "gzip", "x-gzip":
		r, err = gzip.NewReader(bytes.NewReader(in.bytes))
	case "deflate": // zlib (RFC 9110 §8.4.1.2), and from some servers without its frame
		if r, err = zlib.NewReader(bytes.NewReader(in.bytes)); err != nil {
			r, err = flate.NewReader(bytes.NewReader(in.bytes)), nil
		}
	default:
		return text{fault: fmt.Sprintf("it is packed as %.40q, which is not unpacked here (gzip and deflate are)", coding)}
	}
	out := text{whole: in.whole}
	if err == nil {
		out.bytes, err = io.ReadAll(io.LimitReader(r, most+1))
	}
	switch {
	case err != nil && (in.whole || len(out.bytes) == 0):
		return text{fault: fmt.Sprintf("it says that it is packed as %s, and cannot be unpacked", coding)}
	case err != nil:
		out.whole = false // only the beginning was read
	}
	if int64(len(out.bytes)) > most {
		out.bytes, out.whole = out.bytes[:most], false
	}
	return out
}

// usual is the character set that is guessed where nothing says which one it is.
const usual = "windows-1252"

// character is the character set of a page, nil for UTF-8: what its byte order
// mark, its header or its beginning say (the WHATWG's encoding standard).
func character(body []byte, contentType string) (set encoding.Encoding, why string) {
	_, params, _ := mime.ParseMediaType(contentType)
	label := params["charset"]
	found, name, certain := charset.DetermineEncoding(body[:min(1024, len(body))], contentType)
	switch {
	case label != "" && !certain, name == "replacement":
		return nil, fmt.Sprintf("its character set %.40q is not read here", label)
	case name == "utf-8", !certain && name == usual && (validUTF8(body) || !written(contentType)):
		return nil, ""
	}
	return found, ""
}

// written says whether a media type is one of text, or not told.
func written(contentType string) bool {
	kind, _, _ := mime.ParseMediaType(contentType)
	return kind == "" || strings.HasPrefix(kind, "text/") || strings.HasSuffix(kind, "xml")
}

// validUTF8 is not disturbed by a character that was cut off at the end.
func validUTF8(body []byte) bool {
	for n := range utf8.UTFMax {
		if n <= len(body) && utf8.Valid(body[:len(body)-n]) {
			return true
		}
	}
	return false
}

// errSlow is a search that did not end in time.
var errSlow = errors.New("it did not end in time")

// matches says whether a pattern matches a body, and gives up when ctx ends.
func matches(ctx context.Context, re *regexp.Regexp, body []byte) (bool, error) {
	r := &runes{ctx: ctx, rest: body}
	found := re.MatchReader(r)
	if r.late {
		return false, errSlow
	}
	return found, nil
}

// runes reads a body until ctx ends.
type runes struct {
	ctx  context.Context
	rest []byte
	n    int
	late bool
}

func (r *runes) ReadRune() (rune, int, error) {
	const often = 256
	if r.n++; r.n%often == 0 && r.ctx.Err() != nil {
		r.late = true
		return 0, 0, r.ctx.Err()
	}
	if len(r.rest) == 0 {
		return 0, 0, io.EOF
	}
	c, size := utf8.DecodeRune(r.rest)
	r.rest = r.rest[size:]
	return c, size, nil
}

// bounded says what is wrong with JSON, also that there is too much of it.
func bounded(ctx context.Context, body []byte) error {
	d := json.NewDecoder(bytes.NewReader(body))
	d.UseNumber() // a number elsewhere may be of any size
	depth, values := 0, 0
	for {
		token, err := d.Token()
		var wrong *json.SyntaxError
		switch {
		case errors.Is(err, io.EOF) && depth == 0 && values > 0:
			return nil
		case errors.As(err, &wrong):
			return fmt.Errorf("the answer is no JSON, as byte %d of it shows", wrong.Offset)
		case err != nil:
			return errors.New("the answer is no JSON: it ends too early")
		case ctx.Err() != nil:
			return errSlow
		case depth == 0 && values > 0:
			return fmt.Errorf("the answer is no JSON: something follows the value that ends before byte %d", d.InputOffset())
		}
		values++
		switch token {
		case json.Delim('['), json.Delim('{'):
			depth++
		case json.Delim(']'), json.Delim('}'):
			depth--
		}
		if depth > mostJSONDepth {
			return fmt.Errorf("the JSON of the answer is more than %d deep, and is not looked through", mostJSONDepth)
		}
		if values > mostJSONValues {
			return fmt.Errorf("the JSON of the answer has more than %d parts, and is not looked through", mostJSONValues)
		}
	}
}

// number is the one number that a JSONPath (RFC 9535) selects; true is 1, false
// 0, and a text that is a number counts as one.
func number(ctx context.Context, body []byte, path string) (float64, error) {
	if err := definition.JSONPath(path); err != nil {
		return 0, err
	}
	p, err := jsonpath.Parse(path)
	if err != nil {
		return 0, fmt.Errorf("the JSONPath %q cannot be read: %w", path, err)
	}
	// RFC 8259 §8.1: a reader may ignore a byte order mark.
	body = bytes.TrimPrefix(body, []byte("\xEF\xBB\xBF"))
	if err := bounded(ctx, body); err != nil {
		return 0, err
	}
	d := json.NewDecoder(bytes.NewReader(body))
	d.UseNumber()
	var doc any
	if err := d.Decode(&doc); err != nil {
		return 0, errors.New("the answer is no JSON")
	}
	nodes := p.Select(floats(doc))
	if len(nodes) != 1 {
		return 0, fmt.Errorf("%s selects %d values in the answer, and one is needed", path, len(nodes))
	}
	found := "null"
	switch v := nodes[0].(type) {
	case float64:
		if !math.IsInf(v, 0) {
			return v, nil
		}
		found = "a number too large to be compared"
	case bool:
		if v {
			return 1, nil
		}
		return 0, nil
	case string:
		if f, err := strconv.ParseFloat(v, 64); err == nil && decimal(v) && !math.IsNaN(f) && !math.IsInf(f, 0) {
			return f, nil
		}
		found = fmt.Sprintf("the text %.100q", v)
	case []any:
		found = fmt.Sprintf("a list of %d", len(v))
	case map[string]any:
		found = fmt.Sprintf("an object of %d members", len(v))
	}
	return 0, fmt.Errorf("%s selects %s, where one number is needed", path, found)
}

// floats is a decoded JSON value with its numbers as float64, infinite those
// beyond its range: so they compare as they should, and none ends the reading.
func floats(doc any) any {
	switch v := doc.(type) {
	case json.Number:
		f, _ := v.Float64() // ±Inf beyond the range
		return f
	case []any:
		for i := range v {
			v[i] = floats(v[i])
		}
	case map[string]any:
		for name := range v {
			v[name] = floats(v[name])
		}
	}
	return doc
}

// decimal says whether a text is written in the characters of JSON's numbers (RFC 8259 §6),
// and not as Go would write one (0x1p3, 1_000).
func decimal(text string) bool {
	return strings.Trim(text, "0123456789+-.eE") == "" && !strings.ContainsAny(text, "_xX")
}
