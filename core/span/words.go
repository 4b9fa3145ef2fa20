package span

import "fmt"

// Words writes ms as "1 h 04 min", "3 min 20 s" or "12 s"; negative ones with a minus sign.
func Words(ms int64) string {
	if ms < 0 {
		return "−" + Words(-ms)
	}
	s := ms / 1000
	switch {
	case ms < 1000 && ms > 0:
		return fmt.Sprintf("%d ms", ms)
	case s < 60:
		return fmt.Sprintf("%d s", s)
	case s < 3600 && s%60 == 0:
		return fmt.Sprintf("%d min", s/60)
	case s < 3600:
		return fmt.Sprintf("%d min %02d s", s/60, s%60)
	case s < 48*3600 && s%3600/60 == 0:
		return fmt.Sprintf("%d h", s/3600)
	case s < 48*3600:
		return fmt.Sprintf("%d h %02d min", s/3600, s%3600/60)
	}
	return fmt.Sprintf("%d d %d h", s/86400, s%86400/3600)
}
