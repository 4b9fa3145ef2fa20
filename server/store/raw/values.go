package raw

import (
	"math"

	"kestite/core/measure"
)

// values are the measures of a stored measurement in the order of its kind, NaN
// where there is none. Rows from before thousandths have them as short floats;
// those that hold what is no number have none there.
func values(thousandths []int64, short []float32) []float64 {
	if thousandths != nil {
		out := make([]float64, len(thousandths))
		for i, t := range thousandths {
			out[i] = measure.OfThousandths(t)
		}
		return out
	}
	out := make([]float64, len(short))
	for i, v := range short {
		out[i] = float64(v)
		if !measure.Usable(out[i]) {
			out[i] = math.NaN()
		}
	}
	return out
}

// value is the one at an index, NaN where there is none.
func value(thousandths []int64, short []float32, index int) float64 {
	switch {
	case index < 0:
	case thousandths != nil && index < len(thousandths):
		return measure.OfThousandths(thousandths[index])
	case thousandths == nil && index < len(short) && measure.Usable(float64(short[index])):
		return float64(short[index])
	}
	return math.NaN()
}
