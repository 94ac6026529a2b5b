package arrival

import (
	"strconv"
	"strings"
	"time"
)

// ParseRate parses a rate such as 40/s, 2.5/m or 90/h, with at most three digits after the point;
// ok is false when s is not a rate.
func ParseRate(s string) (rate Rate, ok bool) {
	number, unit, ok := strings.Cut(s, "/")
	per := map[string]time.Duration{"s": time.Second, "m": time.Minute, "h": time.Hour}[unit]
	if !ok || per == 0 {
		return Rate{}, false
	}
	whole, fraction, _ := strings.Cut(number, ".")
	if len(fraction) > 3 {
		return Rate{}, false
	}
	n, err := strconv.Atoi(whole + fraction)
	if err != nil || n < 0 || n > 100_000_000 {
		return Rate{}, false
	}
	for range fraction {
		per *= 10
	}
	return Rate{Events: n, Per: per}, true
}
