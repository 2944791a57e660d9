package leaf

import "vinescale/core/amount"

// relation says that a column's values follow from others, or nearly: those of one workload in one interval add up to
// what is known of it elsewhere, or each is that, as a drive and its partition have the same bytes. What is stored is
// how far they are from it, which is mostly nothing.
type relation struct {
	table, column string
	whole         place // what the rows add up to
	less          place // taken off it; its table is "" for nothing
}

// place is a column of a table whose rows are by slot and interval.
type place struct{ table, column string }

// relations are in the order in which they are undone: what one follows from is undone before it.
var relations = func() []relation {
	uses := func(r amount.Resource) place { return place{Uses, UseColumn(r, "")} }
	of := func(m amount.Measure) place { return place{OfMeasure(m), "units"} }
	list := []relation{
		{OfMeasure(amount.CPUSystem), "units", uses(amount.CPU), of(amount.CPUUser)},
		{OfMeasure(amount.DiskWritten), "units", uses(amount.Disk), of(amount.DiskRead)},
		{OfMeasure(amount.NetworkSent), "units", uses(amount.Network), of(amount.NetworkReceived)},
		{Ran, "micros", uses(amount.CPU), place{}},
	}
	for i, m := range []amount.Measure{amount.DiskRead, amount.DiskWritten, amount.DiskReads, amount.DiskWrites,
		amount.DiskTime, amount.DiskDiscarded, amount.DiskDiscards} {
		list = append(list, relation{Devices, DeviceFlows[i], of(m), place{}})
	}
	for _, r := range amount.Resources() {
		list = append(list, relation{Programs, UseColumn(r, ""), uses(r), place{}})
	}
	return list
}()

// Needs lists what a table's columns may follow from, by table: who reads it needs these too.
func Needs(table string) map[string][]string {
	needs := map[string][]string{}
	var add func(table string)
	add = func(table string) {
		for _, r := range relations {
			if r.table != table {
				continue
			}
			for _, p := range []place{r.whole, r.less} {
				if p.table != "" {
					needs[p.table] = append(needs[p.table], p.column)
					add(p.table)
				}
			}
		}
	}
	add(table)
	return needs
}

// Way is how values follow from a whole.
type Way uint8

// The ways.
const (
	NoWay   Way = iota // they do not
	AsParts            // together they are the whole, and the last is what the others leave of it
	AsWhole            // each is the whole
)

// Relate returns a table's column as differences to what it follows from in some way; nil where that is not there.
func (l *Leaf) Relate(table string, column int, way Way) []int64 {
	t := l.Tables[table]
	r := relationOf(table, t.Schema.Columns[column].Name)
	if r == nil || !l.canRelate(r) {
		return nil
	}
	values := append([]int64(nil), t.Low[column]...)
	l.eachRest(r, way, values, func(row int, rest int64) { values[row] -= rest })
	return values
}

// unrelate undoes Relate for the columns that were stored so, once all tables they follow from are there.
func (l *Leaf) unrelate() {
	for i := range relations {
		r := &relations[i]
		t := l.Tables[r.table]
		if t == nil {
			continue
		}
		column := t.Schema.Index(r.column)
		way := l.related[place{r.table, r.column}]
		if way == NoWay || len(t.Low[column]) == 0 {
			continue
		}
		values := t.Low[column]
		l.eachRest(r, way, values, func(row int, rest int64) { values[row] += rest })
		delete(l.related, place{r.table, r.column})
	}
}

// MarkRelated notes that a column holds differences, as Relate made them.
func (l *Leaf) MarkRelated(table, column string, way Way) {
	if l.related == nil {
		l.related = map[place]Way{}
	}
	l.related[place{table, column}] = way
}

func relationOf(table, column string) *relation {
	for i := range relations {
		if relations[i].table == table && relations[i].column == column {
			return &relations[i]
		}
	}
	return nil
}

// canRelate tells whether all that a relation needs is there, in 64 bits.
func (l *Leaf) canRelate(r *relation) bool {
	for _, p := range []place{{r.table, r.column}, r.whole, r.less} {
		if p.table == "" {
			continue
		}
		t := l.Tables[p.table]
		if t.Rows() == 0 || t.High[t.Schema.Index(p.column)] != nil || len(t.Of(p.column)) != t.Rows() {
			return false
		}
	}
	return true
}

// eachRest visits the rows that are stored as differences, with what each follows from. Values are the column's, of
// which those of other rows are as they are.
func (l *Leaf) eachRest(r *relation, way Way, values []int64, visit func(row int, rest int64)) {
	intervals := int64(l.Intervals())
	t := l.Tables[r.table]
	slots, ats := t.Of(Slot), t.Of(At)
	if len(slots) == 0 {
		return
	}
	most := int64(0)
	for _, s := range slots {
		most = max(most, s)
	}
	rest, last := make([]int64, (most+1)*intervals), make([]int, (most+1)*intervals)
	for i, sign := range map[place]int64{r.whole: 1, r.less: -1} {
		if i.table == "" {
			continue
		}
		from := l.Tables[i.table]
		column := from.Of(i.column)
		fromAt := from.Of(At)
		for row, slot := range from.Of(Slot) {
			if slot <= most {
				rest[slot*intervals+fromAt[row]] += sign * column[row]
			}
		}
	}
	if way == AsWhole {
		for row, slot := range slots {
			visit(row, rest[slot*intervals+ats[row]])
		}
		return
	}
	for row, slot := range slots {
		last[slot*intervals+ats[row]] = row
	}
	for row, slot := range slots {
		if k := slot*intervals + ats[row]; last[k] != row {
			rest[k] -= values[row]
		}
	}
	for row, slot := range slots {
		if k := slot*intervals + ats[row]; last[k] == row {
			visit(row, rest[k])
		}
	}
}
