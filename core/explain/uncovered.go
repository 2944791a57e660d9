package explain

import (
	"cmp"
	"slices"
	"time"

	"vinescale/core/question"
)

// Uncovered is in which parts of a span some host told nothing: figures lack what was used there.
type Uncovered struct {
	Hosts   int             `json:"hosts" doc:"Of how many hosts some part of the span was not recorded."`
	Seconds float64         `json:"seconds" doc:"All such parts together."`
	Parts   []UncoveredPart `json:"parts" doc:"The longest first, at most 20."`
	OfLive  bool            `json:"of_live_frames" doc:"Live frames are missing: they may stand in the book."`
}

// UncoveredPart is one part of a span of which one host told nothing.
type UncoveredPart struct {
	Host    string    `json:"host"`
	From    time.Time `json:"from"`
	To      time.Time `json:"to"`
	Seconds float64   `json:"seconds" doc:"Not recorded within it: less than its length where only sums are kept."`
}

// mostParts is how many parts are named.
const mostParts = 20

// Expected is a host of which records are expected from a time on.
type Expected struct {
	ID   int32
	Name string
	From time.Time
}

// ExplainUncovered finds the parts of a span, until an end, of which hosts told nothing; nil where all is covered.
func ExplainUncovered(span question.Span, until time.Time, hosts []Expected, told []question.HostTold) *Uncovered {
	by := map[int32]*question.HostTold{}
	for i := range told {
		by[told[i].Host] = &told[i]
	}
	if until.After(span.To) {
		until = span.To
	}
	u := &Uncovered{OfLive: span.Frames}
	for _, h := range hosts {
		begin, first := span.From, by[h.ID]
		if h.From.After(begin) {
			begin = h.From
		}
		var gaps []question.Gap
		if first == nil {
			gaps = question.Gaps(nil, begin, until)
		} else {
			if first.From.Before(begin) { // it told of a time before it was expected to
				begin = first.From
			}
			whole := question.Told{Start: first.From, End: first.To, Elapsed: first.To.Sub(first.From)}
			gaps = append(question.Gaps([]question.Told{whole}, begin, until), first.Gaps...)
		}
		if len(gaps) > 0 {
			u.Hosts++
		}
		for _, g := range gaps {
			u.Seconds += g.Lacking.Seconds()
			u.Parts = append(u.Parts, UncoveredPart{h.Name, g.From, g.To, g.Lacking.Seconds()})
		}
	}
	if u.Hosts == 0 {
		return nil
	}
	slices.SortFunc(u.Parts, func(a, b UncoveredPart) int {
		return cmp.Or(cmp.Compare(b.Seconds, a.Seconds), a.From.Compare(b.From), a.To.Compare(b.To),
			cmp.Compare(a.Host, b.Host))
	})
	u.Parts = u.Parts[:min(len(u.Parts), mostParts)]
	return u
}
