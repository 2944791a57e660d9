package whatif

import (
	"fmt"
	"strconv"

	"vinescale/core/amount"
)

// words says in a sentence what a limit would have done.
func (x *Limited) words() string {
	limit := Amount(x.Resource, x.Limit)
	switch {
	case x.Steps == 0:
		return "Nothing was recorded of it in this span."
	case x.Possibly == 0:
		return fmt.Sprintf("A limit of %s would have been touched in none of %d steps: the highest tick was %s.", limit,
			x.Steps, Amount(x.Resource, x.Highest))
	}
	text := fmt.Sprintf("A limit of %s would have been touched in %s of the time, and in %s for sure", limit,
		part(x.Possibly, x.Steps), part(x.Surely, x.Steps))
	if x.Resource == amount.Memory.String() {
		return text + fmt.Sprintf(": then its memory is taken back, or it is ended; the highest was %s.",
			Amount(x.Resource, x.Highest))
	}
	if *x.Late == 0 {
		return text + ": its bursts would have been flattened, and nothing of a whole step would have come later."
	}
	text += fmt.Sprintf(": at least %s of work would have come later, and something by %s at least",
		seconds(*x.Late), span(*x.Delay))
	if *x.Open > 0 {
		text += fmt.Sprintf("; %s would not have been done by the end", seconds(*x.Open))
	}
	return text + "."
}

// part is a part in words, never all or none of it where it is neither.
func part(n, of int) string {
	percent := 100 * float64(n) / float64(of)
	switch {
	case n == 0:
		return "none"
	case n == of:
		return "all"
	case percent < 1:
		return "less than 1 %"
	case percent > 99:
		return "more than 99 %"
	}
	return fmt.Sprintf("%.0f %%", percent)
}

// Amount is a figure of CPU or memory with its unit.
func Amount(resource string, v float64) string {
	if resource != amount.Memory.String() {
		if v == 1 {
			return "1 core"
		}
		return round(v) + " cores"
	}
	for _, u := range []struct {
		name string
		of   float64
	}{{"TiB", 1 << 40}, {"GiB", 1 << 30}, {"MiB", 1 << 20}} {
		if v >= u.of {
			return round(v/u.of) + " " + u.name
		}
	}
	return strconv.FormatFloat(v/1024, 'f', 0, 64) + " KiB"
}

// Figure is a figure of any resource with its unit.
func Figure(resource string, v float64) string {
	r, err := amount.ParseResource(resource)
	if err != nil {
		return round(v)
	}
	if v < 0 {
		return "-" + Figure(resource, -v)
	}
	switch r.MeanUnit() {
	case "cores", "bytes":
		return Amount(map[string]string{"cores": "cpu", "bytes": "memory"}[r.MeanUnit()], v)
	case "gpus":
		return round(v) + " GPUs"
	case "bytes_per_second":
		return round(v/1e6) + " MB/s"
	case "watts":
		return round(v) + " W"
	}
	return round(v) + " " + r.MeanUnit()
}

// round writes a number with three figures, or all before the point.
func round(v float64) string {
	if v >= 100 {
		return strconv.FormatFloat(v, 'f', 0, 64)
	}
	return strconv.FormatFloat(v, 'g', 3, 64)
}

func seconds(v float64) string {
	if v >= 7200 {
		return round(v/3600) + " CPU-hours"
	}
	return round(v) + " CPU-seconds"
}

func span(s float64) string {
	switch {
	case s >= 2*86400:
		return round(s/86400) + " days"
	case s >= 7200:
		return round(s/3600) + " hours"
	case s >= 120:
		return round(s/60) + " minutes"
	}
	return round(s) + " seconds"
}
