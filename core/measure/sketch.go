package measure

import (
	"encoding/binary"
	"errors"
	"math"
	"sort"
)

// Sketch counts positive values in buckets that grow by a constant factor, so
// that quantiles of merged sketches are within 2 % of the true value. (The
// scheme is that of relative-error quantile sketches with γ = 1.04.) The zero
// Sketch is empty.
type Sketch struct {
	counts map[int32]uint64
	total  uint64
}

const sketchGrowth = 1.04

var sketchLog = math.Log(sketchGrowth)

// Add counts v; values below 1e-3 count as 1e-3, NaN is left out.
func (s *Sketch) Add(v float64) {
	if math.IsNaN(v) {
		return
	}
	if s.counts == nil {
		s.counts = map[int32]uint64{}
	}
	s.counts[int32(math.Ceil(math.Log(max(v, 1e-3))/sketchLog))]++
	s.total++
}

// Merge adds all that o counted.
func (s *Sketch) Merge(o Sketch) {
	if s.counts == nil {
		s.counts = map[int32]uint64{}
	}
	for b, n := range o.counts {
		s.counts[b] += n
	}
	s.total += o.total
}

// Count is how many values were added.
func (s *Sketch) Count() uint64 { return s.total }

// Quantile returns the value below which the share q (0–1) of all lies; NaN when empty.
func (s *Sketch) Quantile(q float64) float64 {
	if s.total == 0 {
		return math.NaN()
	}
	rank := uint64(q * float64(s.total-1))
	var seen uint64
	for _, b := range s.buckets() {
		seen += s.counts[b]
		if seen > rank {
			return math.Exp((float64(b) - 0.5) * sketchLog)
		}
	}
	return math.NaN()
}

func (s *Sketch) buckets() []int32 {
	list := make([]int32, 0, len(s.counts))
	for b := range s.counts {
		list = append(list, b)
	}
	sort.Slice(list, func(i, j int) bool { return list[i] < list[j] })
	return list
}

// MarshalBinary writes bucket gaps and counts as varints.
func (s *Sketch) MarshalBinary() ([]byte, error) {
	var out []byte
	last := int32(0)
	for _, b := range s.buckets() {
		out = binary.AppendVarint(out, int64(b-last))
		out = binary.AppendUvarint(out, s.counts[b])
		last = b
	}
	return out, nil
}

// UnmarshalBinary reads what MarshalBinary wrote.
func (s *Sketch) UnmarshalBinary(data []byte) error {
	*s = Sketch{counts: map[int32]uint64{}}
	bucket := int64(0)
	for len(data) > 0 {
		gap, n := binary.Varint(data)
		if n <= 0 {
			return errors.New("sketch: bucket cut short")
		}
		data = data[n:]
		count, n := binary.Uvarint(data)
		if n <= 0 {
			return errors.New("sketch: count cut short")
		}
		data = data[n:]
		bucket += gap
		s.counts[int32(bucket)] += count
		s.total += count
	}
	return nil
}
