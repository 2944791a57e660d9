package question

import (
	"slices"
	"time"
)

// Span is a stretch of time: an interval belongs to it when it begins at From or later, and before To.
type Span struct {
	From, To time.Time
	// Frames tells that live frames answer, which are of ticks, and not the book. They are held for a quarter of an
	// hour, and a minute's add up to what the book has of it.
	Frames bool
}

// Holds tells whether an interval that begins at a time belongs to the span.
func (s Span) Holds(start time.Time) bool { return !start.Before(s.From) && start.Before(s.To) }

// IsEmpty tells whether no interval can begin in the span.
func (s Span) IsEmpty() bool { return !s.From.Before(s.To) }

// Less is what is left of the span without an inner one: up to two spans, none of them empty.
func (s Span) Less(inner Span) []Span {
	rest := []Span{{From: s.From, To: inner.From}, {From: inner.To, To: s.To}}
	if inner.IsEmpty() {
		rest = []Span{s}
	}
	return slices.DeleteFunc(rest, Span.IsEmpty)
}

// isWholeMinutes tells whether the span begins and ends with a minute, so that sums by the minute answer for it.
func (s Span) isWholeMinutes() bool {
	return s.From.Truncate(time.Minute).Equal(s.From) && s.To.Truncate(time.Minute).Equal(s.To)
}

// Length is how long the span is.
func (s Span) Length() time.Duration { return s.To.Sub(s.From) }

// Scope says whose figures, of when and where, an answer may be made of. In each of its lists nil stands for all, and
// an empty list for none.
type Scope struct {
	Span    Span
	Hosts   []int32 // by number
	Sees    []int32 // tenants whose figures the asker may see, by number; 0 is what is unassigned
	Tenants []int32 // tenants that are asked for
	Only    []int64 // workloads that a filter matched, by number
}

// Seen lists the tenants whose figures an answer may hold: those that are asked for and may be seen. Nil is all.
func (s *Scope) Seen() []int32 {
	switch {
	case s.Tenants == nil:
		return s.Sees
	case s.Sees == nil:
		return s.Tenants
	}
	both := []int32{}
	for _, t := range s.Tenants {
		if slices.Contains(s.Sees, t) {
			both = append(both, t)
		}
	}
	return both
}

// HasHost tells whether a host is in the scope.
func (s *Scope) HasHost(host int32) bool { return s.Hosts == nil || slices.Contains(s.Hosts, host) }

// HasTenant tells whether figures of a tenant may be in an answer.
func (s *Scope) HasTenant(tenant int32) bool {
	seen := s.Seen()
	return seen == nil || slices.Contains(seen, tenant)
}

// HasWorkload tells whether a workload is in the scope.
func (s *Scope) HasWorkload(workload int64) bool {
	return s.Only == nil || slices.Contains(s.Only, workload)
}

// IsWhole tells whether every workload of the scope's hosts is in it. Only then do the shares leave a residual.
func (s *Scope) IsWhole() bool { return s.Seen() == nil && s.Only == nil }
