package amount

import "fmt"

// Source says how a figure was obtained. A larger value is weaker evidence; the zero value is Counted.
type Source uint8

// The sources, strongest first.
const (
	Counted     Source = iota // the kernel counts exactly this group
	Summed                    // added over processes; what ended between readings is missing
	Split                     // a shared amount divided by a stated key
	Reported                  // told by an outside system
	Unavailable               // cannot be had; the reason is stated beside it
	numSources
)

var sourceNames = [numSources]string{"counted", "summed", "split", "reported", "unavailable"}

func (s Source) String() string {
	if s >= numSources {
		return fmt.Sprintf("source(%d)", uint8(s))
	}
	return sourceNames[s]
}

var sourceMeanings = [numSources]string{
	Counted: "The kernel counts exactly this group.",
	Summed: "Added over the processes that were seen. What began and ended between two readings may be missing; the " +
		"residual has it.",
	Split:       "A shared amount, divided by a key that is stated.",
	Reported:    "Told by another system, such as a vendor's library or a machine manager.",
	Unavailable: "It cannot be had, for the reason that stands beside it. It is not zero.",
}

// Meaning says what the source means, in whole sentences.
func (s Source) Meaning() string { return sourceMeanings[s] }

// Sources lists all sources, the strongest first.
func Sources() []Source { return []Source{Counted, Summed, Split, Reported, Unavailable} }

// Weaker is the source of a sum of two figures: a sum is only as good as its weakest part.
func (s Source) Weaker(t Source) Source { return max(s, t) }

// ParseSource reads a source's name.
func ParseSource(s string) (Source, error) {
	for i, n := range sourceNames {
		if n == s {
			return Source(i), nil
		}
	}
	return 0, fmt.Errorf("unknown source %q: the sources are %v", s, sourceNames)
}
