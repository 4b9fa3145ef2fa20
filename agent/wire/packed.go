package wire

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"

	"github.com/fxamacker/cbor/v2"

	"kestite/core/measure"
	"kestite/core/span"
)

// Media types of a batch. Servers say in the Accept header of their answers what they
// take (RFC 9110 §12.5.1); JSON is understood by all.
const (
	TypeJSON   = "application/json"
	TypePacked = "application/cbor"
	Accepted   = TypePacked + ", " + TypeJSON
)

// packedVersion is the version of the packed form that this program writes and reads.
const packedVersion = 2

// packed is a batch as CBOR (RFC 8949) in columns, one place a measurement, with texts
// named once; numbers are typed arrays (RFC 8746).
type packed struct {
	Version  int               `cbor:"1,keyasint"`
	Checks   []string          `cbor:"2,keyasint"`
	Shapes   [][]string        `cbor:"3,keyasint"` // names of measures that come together
	Clocks   []Clock           `cbor:"4,keyasint"`
	Check    uint16s           `cbor:"5,keyasint"` // which of Checks
	At       int64s            `cbor:"6,keyasint"` // ms since 1970, UTC
	Outcome  []byte            `cbor:"7,keyasint"`
	Shape    uint16s           `cbor:"8,keyasint"`  // which of Shapes, from 1 on; 0: no measures
	Values   float64s          `cbor:"9,keyasint"`  // those of each measurement in turn, as its shape says
	Clock    uint16s           `cbor:"10,keyasint"` // which of Clocks, from 1 on; 0: none
	Late     int64s            `cbor:"11,keyasint"` // ms
	Details  map[uint16]string `cbor:"12,keyasint"` // of some measurements
	Findings map[uint16][]byte `cbor:"13,keyasint"` // of some measurements, as JSON
}

// Tags of typed arrays, little-endian (RFC 8746 §2.1).
const (
	tagUint16s  = 69
	tagInt64s   = 79
	tagFloat64s = 86
)

type (
	uint16s  []uint16
	int64s   []int64
	float64s []float64
)

// array writes a typed array.
func array(tag uint64, bytes []byte) ([]byte, error) {
	return cbor.Marshal(cbor.Tag{Number: tag, Content: bytes})
}

// elements are the bytes of a typed array whose elements have so many bytes.
func elements(data []byte, tag uint64, size int) ([]byte, error) {
	var raw cbor.RawTag
	if err := reader.Unmarshal(data, &raw); err != nil {
		return nil, err
	}
	var text []byte
	if err := reader.Unmarshal(raw.Content, &text); err != nil {
		return nil, err
	}
	if raw.Number != tag || len(text)%size != 0 {
		return nil, fmt.Errorf("%d bytes of tag %d are no typed array of tag %d", len(text), raw.Number, tag)
	}
	return text, nil
}

func (a uint16s) MarshalCBOR() ([]byte, error) {
	out := make([]byte, 0, 2*len(a))
	for _, v := range a {
		out = binary.LittleEndian.AppendUint16(out, v)
	}
	return array(tagUint16s, out)
}

func (a *uint16s) UnmarshalCBOR(data []byte) error {
	text, err := elements(data, tagUint16s, 2)
	if err != nil {
		return err
	}
	*a = make(uint16s, len(text)/2)
	for i := range *a {
		(*a)[i] = binary.LittleEndian.Uint16(text[2*i:])
	}
	return nil
}

func (a int64s) MarshalCBOR() ([]byte, error) {
	out := make([]byte, 0, 8*len(a))
	for _, v := range a {
		out = binary.LittleEndian.AppendUint64(out, uint64(v))
	}
	return array(tagInt64s, out)
}

func (a *int64s) UnmarshalCBOR(data []byte) error {
	text, err := elements(data, tagInt64s, 8)
	if err != nil {
		return err
	}
	*a = make(int64s, len(text)/8)
	for i := range *a {
		(*a)[i] = int64(binary.LittleEndian.Uint64(text[8*i:]))
	}
	return nil
}

func (a float64s) MarshalCBOR() ([]byte, error) {
	out := make([]byte, 0, 8*len(a))
	for _, v := range a {
		out = binary.LittleEndian.AppendUint64(out, math.Float64bits(v))
	}
	return array(tagFloat64s, out)
}

func (a *float64s) UnmarshalCBOR(data []byte) error {
	text, err := elements(data, tagFloat64s, 8)
	if err != nil {
		return err
	}
	*a = make(float64s, len(text)/8)
	for i := range *a {
		(*a)[i] = math.Float64frombits(binary.LittleEndian.Uint64(text[8*i:]))
	}
	return nil
}

// reader takes what a batch may be and no more.
var reader = func() cbor.DecMode {
	mode, err := cbor.DecOptions{
		DupMapKey: cbor.DupMapKeyEnforcedAPF, ExtraReturnErrors: cbor.ExtraDecErrorUnknownField, IndefLength: cbor.IndefLengthForbidden,
		MaxNestedLevels: 8, MaxArrayElements: 2 * MaxBatch, MaxMapPairs: 2 * MaxBatch,
		UTF8: cbor.UTF8DecodeInvalid, // one bad text harms no other measurement: texts are cleaned where they are stored
	}.DecMode()
	if err != nil {
		panic(err)
	}
	return mode
}()

// ErrTooMany is a batch of more than MaxBatch measurements.
var ErrTooMany = fmt.Errorf("a batch holds at most %d measurements", MaxBatch)

// Pack writes a batch in the packed form. The error says what cannot be written.
func Pack(b Batch) ([]byte, error) {
	n := len(b.Measurements)
	if n > MaxBatch {
		return nil, ErrTooMany
	}
	p := packed{Version: packedVersion, Details: map[uint16]string{}, Findings: map[uint16][]byte{},
		Check: make(uint16s, n), At: make(int64s, n), Outcome: make([]byte, n), Shape: make(uint16s, n), Clock: make(uint16s, n),
		Late: make(int64s, n)}
	checks, shapes, clocks := map[string]uint16{}, shaping{}, map[Clock]uint16{}
	for i := range b.Measurements {
		m := &b.Measurements[i]
		at, has := checks[m.Check]
		if !has {
			at = uint16(len(p.Checks))
			checks[m.Check] = at
			p.Checks = append(p.Checks, m.Check)
		}
		p.Check[i], p.At[i], p.Outcome[i], p.Late[i] = at, int64(m.At), byte(m.Outcome), m.LateMS
		p.Shape[i] = shapes.of(&p, m.Check, m.Measures)
		if p.Shape[i] > 0 {
			for _, name := range p.Shapes[p.Shape[i]-1] {
				p.Values = append(p.Values, m.Measures[name])
			}
		}
		if m.Clock != nil {
			if clocks[*m.Clock] == 0 {
				p.Clocks = append(p.Clocks, *m.Clock)
				clocks[*m.Clock] = uint16(len(p.Clocks))
			}
			p.Clock[i] = clocks[*m.Clock]
		}
		if m.Detail != "" {
			p.Details[uint16(i)] = m.Detail
		}
		if m.Findings != nil {
			text, err := json.Marshal(m.Findings)
			if err != nil {
				return nil, fmt.Errorf("findings of %s at %s: %w", m.Check, m.At, err)
			}
			p.Findings[uint16(i)] = text
		}
	}
	return cbor.Marshal(p)
}

// shaping remembers the latest shape of each check, which mostly fits the next too.
type shaping map[string]uint16

func (s shaping) of(p *packed, check string, measures map[string]float64) uint16 {
	if len(measures) == 0 {
		return 0
	}
	if at := s[check]; at > 0 && fits(p.Shapes[at-1], measures) {
		return at
	}
	for i, shape := range p.Shapes {
		if fits(shape, measures) {
			s[check] = uint16(i + 1)
			return s[check]
		}
	}
	p.Shapes = append(p.Shapes, slices.Sorted(maps.Keys(measures)))
	s[check] = uint16(len(p.Shapes))
	return s[check]
}

func fits(shape []string, measures map[string]float64) bool {
	if len(shape) != len(measures) {
		return false
	}
	for _, name := range shape {
		if _, has := measures[name]; !has {
			return false
		}
	}
	return true
}

// Unpack reads a batch in the packed form. What of it cannot be read by itself is
// refused; read decodes findings. The error is ErrTooMany, or says why the whole cannot
// be read.
func Unpack(text []byte, read func(text []byte, into any) error) (list []Measurement, refused []Refusal, err error) {
	var p packed
	if err := reader.Unmarshal(text, &p); err != nil {
		return nil, nil, err
	}
	if len(p.At) > MaxBatch {
		return nil, nil, ErrTooMany
	}
	if err := p.sound(); err != nil {
		return nil, nil, err
	}
	list = make([]Measurement, len(p.At))
	values := p.Values
	for i := range list {
		m := &list[i]
		*m = Measurement{Check: p.Checks[p.Check[i]], At: span.Instant(p.At[i]), Outcome: measure.Outcome(p.Outcome[i]), LateMS: p.Late[i],
			Detail: p.Details[uint16(i)]}
		if s := p.Shape[i]; s > 0 {
			shape := p.Shapes[s-1]
			m.Measures = make(map[string]float64, len(shape))
			for k, name := range shape {
				m.Measures[name] = values[k]
			}
			values = values[len(shape):]
		}
		if c := p.Clock[i]; c > 0 {
			m.Clock = &p.Clocks[c-1]
		}
		if why := p.unreadable(i, m, read); why != nil {
			refused = append(refused, Refusal{Index: i, Reason: "it cannot be read: " + why.Error(), Unstorable: true})
		}
	}
	return list, refused, nil
}

// unreadable reads what may be wrong with one measurement alone.
func (p *packed) unreadable(i int, m *Measurement, read func([]byte, any) error) error {
	if m.Outcome > measure.Failed {
		return fmt.Errorf("%d is no outcome", uint8(m.Outcome))
	}
	if year := m.At.Time().Year(); year < 1 || year > 9999 {
		return fmt.Errorf("%d ms is no instant between the years 1 and 9999", int64(m.At))
	}
	if text, has := p.Findings[uint16(i)]; has {
		if err := read(text, &m.Findings); err != nil {
			return fmt.Errorf("findings: %w", err)
		}
	}
	return nil
}

// sound says whether the columns belong together.
func (p *packed) sound() error {
	if p.Version != packedVersion {
		return fmt.Errorf("version %d of the packed form is not known here", p.Version)
	}
	n := len(p.At)
	for _, column := range []int{len(p.Check), len(p.Outcome), len(p.Shape), len(p.Clock), len(p.Late)} {
		if column != n {
			return errors.New("its columns have different lengths")
		}
	}
	values := 0
	for i := range n {
		switch {
		case int(p.Check[i]) >= len(p.Checks), int(p.Shape[i]) > len(p.Shapes), int(p.Clock[i]) > len(p.Clocks):
			return fmt.Errorf("measurement %d names what is not there", i)
		case p.Shape[i] > 0:
			values += len(p.Shapes[p.Shape[i]-1])
		}
	}
	if values != len(p.Values) {
		return fmt.Errorf("there are %d values where %d belong", len(p.Values), values)
	}
	return nil
}
