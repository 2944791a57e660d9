package account

import "vinescale/core/amount"

// Figures are measures that were read or gathered, with how each was got. The zero value has none.
//
// Invariant: a measure that is not in Set is zero.
type Figures struct {
	Set    amount.MeasureSet
	Units  [amount.NumMeasures]int64
	Source [amount.NumMeasures]amount.Source
}

// Put sets a measure.
func (f *Figures) Put(m amount.Measure, units int64, s amount.Source) {
	f.Set.Put(m)
	f.Units[m], f.Source[m] = units, s
}

// PutAll sets every measure that another has.
func (f *Figures) PutAll(from *Figures) {
	for m := range from.Set.All() {
		f.Put(m, from.Units[m], from.Source[m])
	}
}

// Get is a measure and whether it is there.
func (f *Figures) Get(m amount.Measure) (units int64, ok bool) { return f.Units[m], f.Set.Has(m) }

// Clear takes all measures out. It is cheaper than a new value: most of a group's figures are there at every reading.
func (f *Figures) Clear() { *f = Figures{} }

// gather adds units to a measure, which keeps the weakest source of its parts.
func (f *Figures) gather(m amount.Measure, units int64, s amount.Source) {
	switch {
	case !f.Set.Has(m):
		f.Put(m, units, s)
		return
	case m.Manner() == amount.Height:
		f.Units[m] = max(f.Units[m], units)
	default:
		f.Units[m] += units
	}
	f.Source[m] = f.Source[m].Weaker(s)
}

// add puts the figures of the next interval to these.
func (f *Figures) add(next *Figures) {
	for m := range next.Set.All() {
		f.gather(m, next.Units[m], next.Source[m])
	}
}

// grownSince is what the figures say of the time since an earlier reading of the same counters. Born ones counted from
// nothing; of what was not read before, flows and stalls have no figure yet.
func (f *Figures) grownSince(before *Figures, born bool, elapsedMillis int64) (d Figures) {
	for m := range f.Set.All() {
		was, known := before.Get(m)
		units := f.Units[m]
		switch m.Manner() {
		case amount.Level:
			units *= elapsedMillis
		case amount.Height:
			// The kernel keeps the highest since the group began. Only where it rose was the height reached since.
			if known && units == was || !known && !born {
				continue
			}
		default:
			if !known && !born {
				continue
			}
			units = grown(was, units)
		}
		d.Put(m, units, f.Source[m])
	}
	return d
}

// takeOff takes what an inner group had off what the outer counted.
func (f *Figures) takeOff(inner *Figures) {
	for m := range inner.Set.All() {
		if (m.Manner() == amount.Flow || m.Manner() == amount.Level) && f.Set.Has(m) {
			f.Units[m] -= inner.Units[m]
		}
	}
}
