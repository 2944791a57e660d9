package sheet

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// ParseSpan reads a length of time: Go's form (90m, 1h30m), or whole days (7d).
func ParseSpan(s string) (time.Duration, error) {
	if days, ok := strings.CutSuffix(s, "d"); ok {
		if n, err := strconv.ParseUint(days, 10, 16); err == nil {
			return time.Duration(n) * 24 * time.Hour, nil
		}
	}
	d, err := time.ParseDuration(s)
	if err != nil || d <= 0 {
		return 0, fmt.Errorf("a span of %q: write it as 90m, 1h, 24h or 7d", s)
	}
	return d, nil
}

// SpanText writes a length as ParseSpan reads it: in days, hours, minutes or seconds, whichever is the largest of which
// it is a whole number.
func SpanText(d time.Duration) string {
	for _, u := range []struct {
		name string
		of   time.Duration
	}{{"d", 24 * time.Hour}, {"h", time.Hour}, {"m", time.Minute}} {
		if d%u.of == 0 && d > 0 {
			return strconv.FormatInt(int64(d/u.of), 10) + u.name
		}
	}
	return d.String()
}
