package leaf

import (
	"cmp"
	"slices"

	"vinescale/core/amount"
)

// Join puts the intervals of several leaves of one host into one, in the order of the leaves. All have the same tables
// loaded, and all are sums or none is.
func Join(leaves ...*Leaf) *Leaf {
	joined := New(leaves[0].Host)
	joined.Summed = leaves[0].Summed
	slots := map[slotKey]int64{}
	base := int64(0)
	for _, l := range leaves {
		l.Fill()
		words := make([]int64, len(l.Words))
		for i, w := range l.Words {
			words[i] = joined.Word(w)
		}
		slot := l.slotsIn(slots)
		for _, name := range order {
			t := l.Tables[name]
			if t == nil {
				continue
			}
			into := joined.Table(name)
			n := into.Rows()
			for i, c := range t.Schema.Columns {
				column := slices.Clone(t.Low[i])
				switch {
				case c.Name == At && c.Combine == Key:
					for row := range column {
						column[row] += base
					}
				case c.Name == Slot && c.Combine == Key:
					ats := t.Of(At)
					for row := range column {
						column[row] = slot[slotAt{column[row], ats[row]}]
					}
				case c.Word:
					for row := range column {
						column[row] = words[column[row]]
					}
				}
				into.Low[i] = append(into.Low[i], column...)
				into.High[i] = joinHigh(into.High[i], into.Low[i], t.High[i], n)
			}
		}
		base += int64(l.Intervals())
	}
	joined.Sort()
	return joined
}

// Split undoes Join: the intervals of a leaf, each in a leaf of its own, in their order.
func Split(l *Leaf) []*Leaf {
	l.Fill()
	parts := make([]*Leaf, l.Intervals())
	slots := make([]map[int64]int64, len(parts))
	for at := range parts {
		parts[at], slots[at] = New(l.Host), map[int64]int64{}
		parts[at].Summed = l.Summed
	}
	for _, name := range order {
		t := l.Tables[name]
		ats := t.Of(At)
		for row := range t.Rows() {
			at := ats[row]
			into := parts[at].Table(name)
			for i, c := range t.Schema.Columns {
				v := t.Low[i][row]
				switch {
				case c.Name == At && c.Combine == Key:
					v = 0
				case c.Name == Slot && c.Combine == Key:
					v = slotIn(slots[at], v)
				}
				into.Low[i] = append(into.Low[i], v)
				if t.High[i] != nil {
					into.High[i] = append(into.High[i], t.High[i][row])
				}
			}
		}
	}
	for _, p := range parts {
		p.keepWords(l.Words)
		p.Sort()
	}
	return parts
}

// slotIn is the slot of a part for one of the whole: they are numbered as they come up.
func slotIn(slots map[int64]int64, whole int64) int64 {
	s, there := slots[whole]
	if !there {
		s = int64(len(slots))
		slots[whole] = s
	}
	return s
}

// slotKey is what keeps its slot from leaf to leaf: a workload, and which of its rows in one interval. Sums have
// several, one for each tenant that it had.
type slotKey struct {
	workload int64
	nth      int
}

type slotAt struct{ slot, at int64 }

// slotsIn finds the slots of a joined leaf for those of one that is put into it.
func (l *Leaf) slotsIn(slots map[slotKey]int64) map[slotAt]int64 {
	who := l.Tables[Who]
	ats, workloads := who.Of(At), who.Of("workload")
	seen := map[slotAt]int{}
	to := make(map[slotAt]int64, who.Rows())
	for row, slot := range who.Of(Slot) {
		nth := seen[slotAt{workloads[row], ats[row]}]
		seen[slotAt{workloads[row], ats[row]}]++
		k := slotKey{workloads[row], nth}
		s, there := slots[k]
		if !there {
			s = int64(len(slots))
			slots[k] = s
		}
		to[slotAt{slot, ats[row]}] = s
	}
	return to
}

// joinHigh appends the upper halves of a column, where either part has some.
func joinHigh(into, low, more []int64, n int) []int64 {
	if into == nil && more == nil {
		return nil
	}
	for len(into) < n {
		into = append(into, low[len(into)]>>63)
	}
	into = append(into, more...)
	for len(into) < len(low) {
		into = append(into, low[len(into)]>>63)
	}
	return into
}

// Sort puts the rows of every table into the order of their keys.
func (l *Leaf) Sort() {
	for _, t := range l.Tables {
		t.sort()
	}
}

// sort puts the rows of a table into the order of their keys.
func (t *Table) sort() {
	keys := t.Low[:t.Schema.keys]
	rows := make([]int, t.Rows())
	for i := range rows {
		rows[i] = i
	}
	compare := func(a, b int) int {
		for _, k := range keys {
			if c := cmp.Compare(k[a], k[b]); c != 0 {
				return c
			}
		}
		return 0
	}
	if slices.IsSortedFunc(rows, compare) {
		return
	}
	slices.SortStableFunc(rows, compare)
	for _, columns := range [][][]int64{t.Low, t.High} {
		for i, column := range columns {
			if len(column) == 0 { // Fill makes it
				continue
			}
			sorted := make([]int64, len(column))
			for to, from := range rows {
				sorted[to] = column[from]
			}
			columns[i] = sorted
		}
	}
}

// Fold adds up the intervals of a leaf: one sum, in which every workload has a slot for each tenant that it had.
func Fold(l *Leaf) *Leaf {
	l.Fill()
	sum := New(l.Host)
	sum.Summed = true
	slot := l.slotsByUser()
	for _, name := range order {
		t := l.Tables[name]
		if t == nil {
			continue
		}
		f := folding{from: t, into: sum.Table(name), words: l.Words, place: map[folded]int{}}
		f.newest = t.Schema.Index(NewestAt)
		for row := range t.Rows() {
			f.add(row, slot)
		}
		f.close()
	}
	sum.keepWords(l.Words)
	return sum
}

// Merge adds up rows that are of one workload in a leaf of one interval. Its columns that follow from others are made
// anew, as those of any interval.
func Merge(l *Leaf) *Leaf {
	one := Fold(l)
	one.Summed = false
	for _, t := range one.Tables {
		for i, c := range t.Schema.Columns {
			if c.Fill != Stored {
				t.Low[i], t.High[i] = nil, nil
			}
		}
	}
	return one
}

// slotsByUser gives every workload a slot for each of its tenants, in the order of both.
func (l *Leaf) slotsByUser() map[slotAt]int64 {
	who := l.Tables[Who]
	ats, workloads, tenants := who.Of(At), who.Of("workload"), who.Of("tenant")
	users := make([]User, 0, who.Rows())
	for row := range who.Rows() {
		users = append(users, User{workloads[row], int32(tenants[row])})
	}
	slices.SortFunc(users, func(a, b User) int {
		return cmp.Or(cmp.Compare(a.Workload, b.Workload), cmp.Compare(a.Tenant, b.Tenant))
	})
	users = slices.Compact(users)
	number := make(map[User]int64, len(users))
	for i, u := range users {
		number[u] = int64(i)
	}
	slot := make(map[slotAt]int64, who.Rows())
	for row, s := range who.Of(Slot) {
		slot[slotAt{s, ats[row]}] = number[User{workloads[row], int32(tenants[row])}]
	}
	return slot
}

// folded is the key of a row of a sum. No table has more keys than these.
type folded [5]int64

type folding struct {
	from, into *Table
	words      []string
	place      map[folded]int
	newest     int // place of the column NewestAt; -1 for none
	sums       [][]amount.Wide
}

func (f *folding) add(row int, slot map[slotAt]int64) {
	t, s := f.from, f.from.Schema
	var k folded
	at := t.Low[s.keys-1][row]
	for i := range s.keys - 1 {
		k[i] = t.Low[i][row]
		if s.Columns[i].Name == Slot {
			k[i] = slot[slotAt{k[i], at}]
		}
	}
	if f.sums == nil {
		f.sums = make([][]amount.Wide, len(s.Columns))
	}
	to, there := f.place[k]
	if !there {
		f.place[k] = f.into.Rows()
		for i, c := range s.Columns {
			v := t.Low[i][row]
			if i < s.keys {
				v = k[i]
			}
			f.into.Low[i] = append(f.into.Low[i], v)
			if c.Combine == Sum {
				f.sums[i] = append(f.sums[i], t.Wide(i, row))
			}
		}
		return
	}
	later := f.newest >= 0 && t.Low[f.newest][row] >= f.into.Low[f.newest][to]
	for i := s.keys; i < len(s.Columns); i++ {
		into, v := &f.into.Low[i][to], t.Low[i][row]
		switch c := &s.Columns[i]; c.Combine {
		case Sum:
			f.sums[i][to].Plus(t.Wide(i, row))
		case Most:
			if c.Word && f.words[v] > f.words[*into] || !c.Word && v > *into {
				*into = v
			}
		case Least:
			*into = min(*into, v)
		case Weakest:
			*into = weaker(*into, v)
		case Newest:
			if later || f.newest < 0 {
				*into = v
			}
		}
	}
}

// weaker is the weaker of two sources, of which Unavailable is none.
func weaker(a, b int64) int64 {
	switch {
	case amount.Source(a) == amount.Unavailable:
		return b
	case amount.Source(b) == amount.Unavailable:
		return a
	}
	return max(a, b)
}

// close writes the sums into their columns and sorts the rows.
func (f *folding) close() {
	for i, sums := range f.sums {
		if f.from.Schema.Columns[i].Combine != Sum {
			continue
		}
		wide := false
		for row, w := range sums {
			high, low := w.Halves()
			f.into.Low[i][row] = low
			wide = wide || high != low>>63
		}
		if !wide {
			continue
		}
		f.into.High[i] = make([]int64, len(sums))
		for row, w := range sums {
			f.into.High[i][row], _ = w.Halves()
		}
	}
	f.into.sort()
}

// keepWords gives a leaf those of another's words that it uses.
func (l *Leaf) keepWords(words []string) {
	for _, name := range order {
		t := l.Tables[name]
		if t == nil {
			continue
		}
		for i, c := range t.Schema.Columns {
			if !c.Word {
				continue
			}
			for row, v := range t.Low[i] {
				t.Low[i][row] = l.Word(words[v])
			}
		}
		t.sort() // words that are keys have other numbers now
	}
}
