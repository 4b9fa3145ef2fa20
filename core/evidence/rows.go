package evidence

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"math/bits"
	"slices"
	"strconv"

	"kestite/core/measure"
	"kestite/core/span"
)

// row is one parsed line of measurements.csv. The slices are valid until the
// next row is read.
type row struct {
	line            int64
	check, location []byte
	at              span.Instant
	outcome         measure.Outcome
	total           int64  // total_ms in thousandths, measure.None where there is none
	digest          uint64 // of all measures as parsed
}

// rowReader reads measurements.csv one row at a time without allocating.
type rowReader struct {
	in       *bufio.Reader
	name     string
	line     int64
	columns  int
	check    int
	location int
	at       int
	outcome  int
	total    int
	measures []int
	names    []string
	fields   [][]byte
	buf      []byte
	day      [10]byte // the date last parsed …
	dayMS    int64    // … and its midnight
	bytes    int64
}

// RowFault is something wrong with a row of measurements.csv.
type RowFault struct {
	File    string
	Lines   []int64
	Message string
}

func (f *RowFault) Error() string {
	if len(f.Lines) == 2 {
		return fmt.Sprintf("%s lines %d and %d: %s", f.File, f.Lines[0], f.Lines[1], f.Message)
	}
	return fmt.Sprintf("%s line %d: %s", f.File, f.Lines[0], f.Message)
}

// mostEmpty is how many empty lines in a row are passed over.
const mostEmpty = 1000

func newRowReader(r io.Reader, name string) (*rowReader, error) {
	rr := &rowReader{in: bufio.NewReaderSize(r, 1<<18), name: name, total: -1}
	line, err := rr.next()
	if errors.Is(err, io.EOF) {
		return nil, rr.fault("is empty; the first line names the columns check,location,at,outcome and any measures")
	}
	if err != nil {
		return nil, err
	}
	line = bytes.TrimPrefix(line, []byte("\xef\xbb\xbf"))
	if err := rr.split(line); err != nil {
		return nil, err
	}
	found := map[string]int{}
	for i, f := range rr.fields {
		name := string(f)
		if name == "" {
			return nil, rr.fault("column %d has no name", i+1)
		}
		if _, twice := found[name]; twice {
			return nil, rr.fault("two columns are called %s", name)
		}
		found[name] = i
		rr.names = append(rr.names, name)
	}
	for name, place := range map[string]*int{"check": &rr.check, "location": &rr.location, "at": &rr.at, "outcome": &rr.outcome} {
		i, ok := found[name]
		if !ok {
			return nil, rr.fault("there is no column %s; the columns are check,location,at,outcome and any measures", name)
		}
		*place = i
		delete(found, name)
	}
	if i, ok := found["total_ms"]; ok {
		rr.total = i
	}
	for _, i := range found {
		rr.measures = append(rr.measures, i)
	}
	slices.Sort(rr.measures)
	rr.columns = len(rr.fields)
	return rr, nil
}

func (rr *rowReader) fault(format string, args ...any) error {
	return &RowFault{rr.name, []int64{max(rr.line, 1)}, fmt.Sprintf(format, args...)}
}

// next returns the next line without its end, valid until the call after.
func (rr *rowReader) next() ([]byte, error) {
	rr.buf = rr.buf[:0]
	for {
		part, err := rr.in.ReadSlice('\n')
		rr.bytes += int64(len(part))
		switch {
		case err == nil && len(rr.buf) == 0:
			rr.line++
			return trimEnd(part), nil
		case err == nil || errors.Is(err, io.EOF) && len(rr.buf)+len(part) > 0:
			rr.buf = append(rr.buf, part...)
			rr.line++
			return trimEnd(rr.buf), nil
		case errors.Is(err, bufio.ErrBufferFull):
			rr.buf = append(rr.buf, part...)
			if len(rr.buf) > 1<<20 {
				rr.line++
				return nil, rr.fault("is longer than 1 MiB")
			}
		default:
			return nil, err
		}
	}
}

func trimEnd(line []byte) []byte {
	n := len(line)
	if n > 0 && line[n-1] == '\n' {
		n--
	}
	if n > 0 && line[n-1] == '\r' {
		n--
	}
	return line[:n]
}

// split cuts a line at its commas (RFC 4180, a quoted field within one line).
func (rr *rowReader) split(line []byte) error {
	rr.fields = rr.fields[:0]
	if rr.splitPlain(line) {
		return nil
	}
	rr.fields = rr.fields[:0]
	for {
		var field []byte
		if len(line) > 0 && line[0] == '"' {
			rest := line[1:]
			for {
				i := bytes.IndexByte(rest, '"')
				if i < 0 {
					return rr.fault("a quoted field is not closed")
				}
				field = append(field, rest[:i]...)
				rest = rest[i+1:]
				if len(rest) == 0 || rest[0] != '"' {
					break
				}
				field = append(field, '"')
				rest = rest[1:]
			}
			if len(rest) > 0 && rest[0] != ',' {
				return rr.fault("there is text after a closing quote")
			}
			line = rest
		} else {
			i := bytes.IndexByte(line, ',')
			if i < 0 {
				i = len(line)
			}
			field, line = line[:i], line[i:]
		}
		rr.fields = append(rr.fields, field)
		if len(line) == 0 {
			return nil
		}
		line = line[1:]
	}
}

// splitPlain cuts a line without quotes, eight bytes at a time; false where
// there is one.
func (rr *rowReader) splitPlain(line []byte) bool {
	const commas, quotes = 0x2c2c2c2c2c2c2c2c, 0x2222222222222222
	fields := rr.fields
	begin, i := 0, 0
	for ; i+8 <= len(line); i += 8 {
		word := binary.LittleEndian.Uint64(line[i:])
		if zeroBytes(word^quotes) != 0 {
			return false
		}
		for found := zeroBytes(word ^ commas); found != 0; found &= found - 1 {
			at := i + bits.TrailingZeros64(found)/8
			fields = append(fields, line[begin:at])
			begin = at + 1
		}
	}
	for ; i < len(line); i++ {
		switch line[i] {
		case ',':
			fields = append(fields, line[begin:i])
			begin = i + 1
		case '"':
			return false
		}
	}
	rr.fields = append(fields, line[begin:])
	return true
}

// zeroBytes has the highest bit set of exactly those bytes of v that are zero.
func zeroBytes(v uint64) uint64 {
	const low = 0x7f7f7f7f7f7f7f7f
	return ^((v&low + low) | v | low)
}

// read fills r with the next row; io.EOF after the last.
func (rr *rowReader) read(r *row) error {
	line, err := rr.next()
	for empty := 0; err == nil && len(line) == 0; empty++ {
		if empty == mostEmpty {
			return rr.fault("is empty, as are the %d before it, and no more are passed over", mostEmpty)
		}
		line, err = rr.next()
	}
	if err != nil {
		return err
	}
	if err := rr.split(line); err != nil {
		return err
	}
	if len(rr.fields) != rr.columns {
		return rr.fault("has %d fields; the header has %d", len(rr.fields), rr.columns)
	}
	r.line = rr.line
	r.check, r.location = rr.fields[rr.check], rr.fields[rr.location]
	if len(r.check) == 0 || len(r.location) == 0 {
		return rr.fault("check and location must not be empty")
	}
	if r.at, err = rr.instant(rr.fields[rr.at]); err != nil {
		return rr.fault("at: %v", err)
	}
	if r.outcome, err = outcome(rr.fields[rr.outcome]); err != nil {
		return rr.fault("%v", err)
	}
	return rr.readMeasures(r)
}

func (rr *rowReader) readMeasures(r *row) error {
	r.total = measure.None
	r.digest = 14695981039346656037 // FNV-1a over the values
	for _, i := range rr.measures {
		value := int64(measure.None)
		if f := rr.fields[i]; len(f) > 0 {
			v, err := thousandths(f)
			if err != nil {
				return rr.fault("%s: %q is no finite decimal number; write it as 12.5, or leave it empty", rr.names[i], f)
			}
			if i == rr.total {
				r.total = v
			}
			value = v
		}
		r.digest = (r.digest ^ uint64(value)) * 1099511628211
		r.digest ^= r.digest >> 29
	}
	return nil
}

// thousandths reads a finite decimal number, with or without an exponent, and
// rounds it half up to whole thousandths. What lies beyond measure.MostValue is
// beyond every limit, and is the greatest or least number there is.
func thousandths(f []byte) (int64, error) {
	var mantissa, digits, decimals int64
	for i, b := range f {
		switch {
		case '0' <= b && b <= '9' && digits < 15:
			mantissa = mantissa*10 + int64(b-'0')
			digits++
			if decimals > 0 {
				decimals++
			}
		case b == '.' && decimals == 0:
			decimals = 1
		case b == '-' && i == 0:
		default:
			return unusual(f)
		}
	}
	if digits == 0 {
		return 0, strconv.ErrSyntax
	}
	if f[0] == '-' {
		mantissa = -mantissa
	}
	decimals = max(0, decimals-1)
	if decimals <= 3 {
		return mantissa * whole[3-decimals], nil
	}
	unit := whole[decimals-3]
	t, rest := mantissa/unit, mantissa%unit
	if rest < 0 {
		t, rest = t-1, rest+unit
	}
	if 2*rest >= unit {
		t++
	}
	return t, nil
}

var whole = [...]int64{1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13}

// unusual is thousandths for long numbers and those with an exponent.
func unusual(f []byte) (int64, error) {
	for _, b := range f { // what ParseFloat would take besides
		if (b < '0' || b > '9') && b != '.' && b != '-' && b != '+' && b != 'e' && b != 'E' {
			return 0, strconv.ErrSyntax
		}
	}
	v, err := strconv.ParseFloat(string(f), 64)
	switch {
	case err != nil || f[0] == '+':
		return 0, strconv.ErrSyntax
	case v > measure.MostValue:
		return math.MaxInt64, nil
	case v < -measure.MostValue:
		return -math.MaxInt64, nil
	}
	if t, ok := measure.ParseThousandths(string(f)); ok { // exactly, where it is written out
		return t, nil
	}
	return measure.Thousandths(v), nil
}

func outcome(f []byte) (measure.Outcome, error) {
	switch string(f) {
	case "ok":
		return measure.OK, nil
	case "degraded":
		return measure.Degraded, nil
	case "failed":
		return measure.Failed, nil
	case "error":
		return measure.Error, nil
	}
	return measure.ParseOutcome(string(f))
}

// instant parses the common forms "2006-01-02T15:04:05Z" and with ".000" by
// hand; all else goes to span.ParseInstant.
func (rr *rowReader) instant(f []byte) (span.Instant, error) {
	n := len(f)
	if n != 20 && n != 24 || f[n-1] != 'Z' || f[10] != 'T' || f[13] != ':' || f[16] != ':' || n == 24 && f[19] != '.' {
		return span.ParseInstant(string(f))
	}
	if [10]byte(f[:10]) != rr.day {
		midnight, err := span.ParseInstant(string(f[:10]) + "T00:00:00Z")
		if err != nil {
			return span.ParseInstant(string(f))
		}
		rr.day, rr.dayMS = [10]byte(f[:10]), int64(midnight)
	}
	h, m, s, ms := two(f[11:]), two(f[14:]), two(f[17:]), int64(0)
	if n == 24 {
		ms = two(f[20:])*10 + two(f[21:])%10
		if two(f[20:]) < 0 || two(f[21:]) < 0 {
			h = -1
		}
	}
	if h < 0 || m < 0 || s < 0 || h > 23 || m > 59 || s > 59 {
		return span.ParseInstant(string(f))
	}
	return span.Instant(rr.dayMS + h*span.Hour + m*span.Minute + s*span.Second + ms), nil
}

// two reads two digits, −1000 when they are not.
func two(f []byte) int64 {
	a, b := f[0]-'0', f[1]-'0'
	if a > 9 || b > 9 {
		return -1000
	}
	return int64(a)*10 + int64(b)
}
