package tenancy

import (
	"cmp"
	"errors"
	"fmt"
	"math"
	"slices"
	"time"
)

// Limit is what a tenant may have of something: as a mean in its unit (cores, GPUs, bytes, bytes per second, watts, a
// number), or of an allowance, as an amount for its window. With neither mark there is no limit.
type Limit struct {
	Ceiling *float64 // what must not stay exceeded; of an allowance, its amount
	Soft    *float64 // from here on it is watched; at most the ceiling
	Basis   Basis    // what is held against it; the zero value is Used
	Zone    string   // of an allowance: the time zone in which its windows begin, by the tz database
}

// None tells whether nothing is limited.
func (l Limit) None() bool { return l.Ceiling == nil && l.Soft == nil }

// Equal tells whether two limits are the same.
func (l Limit) Equal(other Limit) bool {
	basis := func(b Basis) Basis { return cmp.Or(b, Used) }
	return sameMark(l.Ceiling, other.Ceiling) && sameMark(l.Soft, other.Soft) && (l.None() ||
		basis(l.Basis) == basis(other.Basis) && l.Zone == other.Zone)
}

func sameMark(a, b *float64) bool {
	if a == nil || b == nil {
		return a == b
	}
	return *a == *b
}

// Check says what is wrong with a limit.
func (l Limit) Check() error {
	for _, mark := range []*float64{l.Ceiling, l.Soft} {
		if mark != nil && (*mark < 0 || math.IsNaN(*mark) || math.IsInf(*mark, 0)) {
			return fmt.Errorf("a quota of %g: give zero or more", *mark)
		}
	}
	if l.Ceiling != nil && l.Soft != nil && *l.Soft > *l.Ceiling {
		return fmt.Errorf("a soft mark of %g above the ceiling of %g would never be heard: give at most the ceiling",
			*l.Soft, *l.Ceiling)
	}
	if l.None() {
		return errors.New("neither a ceiling nor a soft mark: give one, or remove the quota")
	}
	return nil
}

// LimitChange puts a limit in force from a moment on, in place of the one before it. A change to none ends a limit.
type LimitChange struct {
	From  time.Time // when it begins to apply
	Made  time.Time // when it was written down, which may be later or earlier
	Limit Limit
}

// Term is the time in which one limit was in force: from From until before To.
type Term struct {
	From, To time.Time
	Limit    Limit
}

// Terms divides a span by the limits that were in force: one after the other, from the span's beginning to its end. Of
// changes that apply from the same moment the one written down last holds. Before the first there is no limit.
func Terms(changes []LimitChange, from, to time.Time) []Term {
	inOrder := slices.SortedStableFunc(slices.Values(changes), LimitChange.compare)
	terms := []Term{{From: from, To: to}}
	for _, c := range inOrder {
		last := &terms[len(terms)-1]
		switch {
		case !c.From.Before(to):
			return terms
		case !c.From.After(last.From):
			last.Limit = c.Limit
		case !c.Limit.Equal(last.Limit):
			last.To = c.From
			terms = append(terms, Term{From: c.From, To: to, Limit: c.Limit})
		}
		if n := len(terms); n > 1 && terms[n-1].Limit.Equal(terms[n-2].Limit) { // changed and taken back at one moment
			terms[n-2].To = to
			terms = terms[:n-1]
		}
	}
	return terms
}

func (c LimitChange) compare(other LimitChange) int {
	if n := c.From.Compare(other.From); n != 0 {
		return n
	}
	return c.Made.Compare(other.Made)
}

// Coming is the first change that applies from a moment on or later and makes another limit of the one before it; nil
// for none.
func Coming(changes []LimitChange, at time.Time) *LimitChange {
	before := Limit{}
	var coming *LimitChange
	for _, c := range slices.SortedStableFunc(slices.Values(changes), LimitChange.compare) {
		switch {
		case c.From.Before(at):
			before = c.Limit
		case coming != nil && c.From.After(coming.From):
			return coming
		case c.Limit.Equal(before):
			coming = nil
		default:
			coming = &c
		}
	}
	return coming
}

// InForce is the limit at a moment.
func InForce(changes []LimitChange, at time.Time) Limit {
	return Terms(changes, at, at.Add(time.Nanosecond))[0].Limit
}
