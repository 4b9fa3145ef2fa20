package measure_test

import (
	"math"
	"testing"

	"kestite/core/measure"
)

func TestVoiceWithoutImpairment(t *testing.T) {
	r := measure.G711.Rating(0, 0, 0)
	if r != 93.2 || math.Abs(measure.MOS(r)-4.41) > 0.005 {
		t.Errorf("R %v, MOS %v; ITU-T G.107 gives 93.2 and 4.41", r, measure.MOS(r))
	}
}

func TestVoice(t *testing.T) {
	for _, c := range []struct {
		codec             measure.Codec
		trip, jitter, bad float64
		r, mos            float64
	}{
		// By the equations of ITU-T G.107 worked out apart from this program; half the
		// trip is the delay one way. The last row of delay is 500 ms.
		{measure.G711, 100, 0, 0, 91.756, 4.380},
		{measure.G711, 200, 0, 0, 90.664, 4.355},
		{measure.G711, 300, 0, 0, 89.539, 4.328},
		{measure.G711, 400, 0, 0, 85.805, 4.223},
		{measure.G711, 500, 0, 0, 79.177, 3.993},
		{measure.G711, 600, 0, 0, 72.666, 3.719},
		{measure.G711, 800, 0, 0, 62.247, 3.216},
		{measure.G711, 1000, 0, 0, 54.803, 2.828},
		{measure.G711, 100, 12.5, 0, 91.190, 4.367}, // 75 ms
		{measure.G729, 0, 0, 0, 82.206, 4.105},
		{measure.G711, 0, 0, 1, 89.567, 4.321},
		{measure.G711, 0, 0, 10, 66.142, 3.410},
		{measure.G711, 4000, 0, 50, 0, 1},
	} {
		r := c.codec.Rating(c.trip, c.jitter, c.bad)
		if math.Abs(r-c.r) > 0.01 || math.Abs(measure.MOS(r)-c.mos) > 0.01 {
			t.Errorf("%s, %v ms, jitter %v ms, loss %v %%: R %.3f, MOS %.3f; want %v and %v", c.codec.Name, c.trip, c.jitter, c.bad, r, measure.MOS(r), c.r, c.mos)
		}
	}
	for r := -10.0; r < 110; r++ {
		if m := measure.MOS(r); m < 1 || m > 4.5 || m > measure.MOS(r+1)+1e-9 && r > 7 {
			t.Errorf("MOS of R %v is %v", r, m)
		}
	}
}

func TestInterarrivalJitter(t *testing.T) {
	sent := []float64{0, 20, 40, 60}
	if j := measure.Interarrival(sent, []float64{1005, 1025, 1045, 1065}); j != 0 {
		t.Errorf("a constant delay has a jitter of %v", j)
	}
	// One packet 16 ms late: +16 and then −16, so 1 and then 1 + 15/16.
	if j := measure.Interarrival(sent, []float64{5, 41, 45, 65}); math.Abs(j-(1+15.0/16)*15/16) > 1e-9 {
		t.Errorf("jitter %v", j)
	}
}
