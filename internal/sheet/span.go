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
