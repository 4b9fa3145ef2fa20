package span

import "testing"

func TestDurationsInWords(t *testing.T) {
	for ms, want := range map[int64][3]string{
		0:             {"0 s", "0 s", "0.000 s"},
		1:             {"1 ms", "1 ms", "0.001 s"},
		999:           {"999 ms", "999 ms", "0.999 s"},
		1000:          {"1 s", "1 s", "1.000 s"},
		1001:          {"1 s", "2 s", "1.001 s"},
		59_999:        {"59 s", "1 min", "59.999 s"},
		60_000:        {"1 min", "1 min", "1 min 00.000 s"},
		1_526_140:     {"25 min 26 s", "25 min 27 s", "25 min 26.140 s"},
		3_600_000:     {"1 h", "1 h", "1 h 00 min 00.000 s"},
		3_609_000:     {"1 h 00 min 09 s", "1 h 00 min 09 s", "1 h 00 min 09.000 s"},
		3_719_930:     {"1 h 01 min 59 s", "1 h 02 min", "1 h 01 min 59.930 s"},
		3_849_000:     {"1 h 04 min 09 s", "1 h 04 min 09 s", "1 h 04 min 09.000 s"},
		172_800_000:   {"2 d", "2 d", "48 h 00 min 00.000 s"},
		176_700_500:   {"2 d 1 h 05 min", "2 d 1 h 05 min 01 s", "49 h 05 min 00.500 s"},
		2_678_400_000: {"31 d", "31 d", "744 h 00 min 00.000 s"},
		-1500:         {"−2 s", "−1 s", "−1.500 s"},
		-61_000:       {"−1 min 01 s", "−1 min 01 s", "−1 min 01.000 s"},
	} {
		if got := [3]string{Words(ms), WordsUp(ms), Exact(ms)}; got != want {
			t.Errorf("%d ms: %q, not %q", ms, got, want)
		}
	}
}
