package evidence

import (
	"bufio"
	"io"
	"math"
	"strconv"

	"kestite/core/measure"
	"kestite/core/span"
)

// Writer writes measurements.csv.
type Writer struct {
	out *bufio.Writer
	buf []byte
	at  map[string]int // column of a measure
	row []float64
}

// NewWriter writes the first line: the four columns and the names of measures, each once.
func NewWriter(w io.Writer, measures []string) (*Writer, error) {
	out := &Writer{out: bufio.NewWriter(w), at: map[string]int{}}
	line := "check,location,at,outcome"
	for _, name := range measures {
		if _, twice := out.at[name]; twice {
			continue
		}
		out.at[name] = len(out.at)
		line += "," + name
	}
	out.row = make([]float64, len(out.at))
	_, err := out.out.WriteString(line + "\n")
	return out, err
}

// Write writes one measurement; values are those of names, NaN where there is none, and
// names that the first line does not have are left out. Check and location are ids.
func (w *Writer) Write(check, location string, at span.Instant, outcome measure.Outcome, names []string, values []float64) error {
	for i := range w.row {
		w.row[i] = math.NaN()
	}
	for i, name := range names {
		if column, has := w.at[name]; has && i < len(values) {
			w.row[column] = values[i]
		}
	}
	b := append(w.buf[:0], check...)
	b = append(append(b, ','), location...)
	b = append(append(b, ','), at.String()...)
	b = append(append(b, ','), outcome.String()...)
	for _, v := range w.row {
		b = append(b, ',')
		if !math.IsNaN(v) {
			b = strconv.AppendFloat(b, v, 'f', -1, 64)
		}
	}
	w.buf = append(b, '\n')
	_, err := w.out.Write(w.buf)
	return err
}

// Close writes what is left.
func (w *Writer) Close() error { return w.out.Flush() }
