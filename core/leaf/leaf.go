package leaf

import (
	"math"
	"slices"
	"time"

	"vinescale/core/amount"
	"vinescale/core/question"
)

// Table is rows of whole numbers, by column.
//
// Invariant: every column has as many elements as At has. Rows are sorted by their keys, each key once.
type Table struct {
	Schema *Schema
	Low    [][]int64
	High   [][]int64 // upper halves of sums that 64 bits do not hold; nil for a column in which all do
}

// NewTable makes an empty table.
func NewTable(name string) *Table {
	s := SchemaOf(name)
	return &Table{Schema: s, Low: make([][]int64, len(s.Columns)), High: make([][]int64, len(s.Columns))}
}

// Rows is how many rows there are.
func (t *Table) Rows() int {
	if t == nil || len(t.Low) == 0 {
		return 0
	}
	return len(t.Low[t.Schema.keys-1])
}

// Of is a column's lower halves: the values, unless the column is a sum that may need more. It is empty where the table
// is not there.
func (t *Table) Of(column string) []int64 {
	if t == nil {
		return nil
	}
	return t.Low[t.Schema.Index(column)]
}

// Wide is the value of a row in a column, by the column's place.
func (t *Table) Wide(column, row int) amount.Wide {
	low := t.Low[column][row]
	if high := t.High[column]; high != nil {
		return amount.WideOf(high[row], low)
	}
	return amount.WideOf(low>>63, low)
}

// Append adds a row: a value for each column that is stored in a leaf of intervals, in order. Fill makes the others. On
// a table that is not made it does nothing.
func (t *Table) Append(values ...int64) {
	if t == nil {
		return
	}
	k := 0
	for i := range t.Schema.Columns {
		if t.Schema.Columns[i].Fill == Stored {
			t.Low[i] = append(t.Low[i], values[k])
			k++
		}
	}
}

// Leaf is what was counted on one host over some intervals.
//
// Invariant: the table Intervals has a row for each value of At in any other. Words[0] is "".
type Leaf struct {
	Host   int32
	Summed bool // its intervals are sums over hours or days, and not as they came
	Words  []string
	Tables map[string]*Table

	word    map[string]int64
	only    map[string]bool // tables that are made; nil for all
	except  int32           // hours of the day whose sums do not count, as bits
	related map[place]Way   // columns that hold differences, until Fill undoes it
	want    Want
	desk    *Desk
}

// Desk is room for one leaf at a time: whoever reads many leaves, one after the other, lays each on the same desk.
type Desk struct {
	numbers []int64
	users   []User
	words   []string // of all leaves that lay there: most of them have the same
	word    map[string]int64
}

// mostWords is how many words stay on a desk.
const mostWords = 4096

// On makes a leaf without anything on a desk. The leaf that lay there before must not be used any more.
func (d *Desk) On(host int32) *Leaf {
	d.numbers, d.users = d.numbers[:0], d.users[:0]
	if len(d.words) == 0 || len(d.words) > mostWords {
		d.words, d.word = []string{""}, map[string]int64{"": 0}
	}
	return &Leaf{Host: host, Words: d.words, word: d.word, Tables: map[string]*Table{}, desk: d}
}

// Numbers makes a column of so many zeros.
func (l *Leaf) Numbers(n int) []int64 {
	if l.desk == nil {
		return make([]int64, n)
	}
	return room(&l.desk.numbers, n)
}

// room takes n zeros off what is left of a slice, or off a larger one that replaces it.
func room[T any](of *[]T, n int) []T {
	at := len(*of)
	if at+n > cap(*of) { // what was taken before stays with those who have it
		*of, at = make([]T, 0, max(2*cap(*of), n, 4096)), 0
	}
	*of = (*of)[:at+n]
	taken := (*of)[at : at+n : at+n]
	clear(taken)
	return taken
}

// Want is which columns are to be read, by table and place; nil for all. Keys are read wherever any other column is.
type Want map[string][]bool

// WantOf is a want of the columns for which a function is true.
func WantOf(column func(table, column string) bool) Want {
	w := Want{}
	for _, name := range order {
		s := schemas[name]
		for i, c := range s.Columns[s.keys:] {
			if column(name, c.Name) {
				if w[name] == nil {
					w[name] = make([]bool, len(s.Columns))
					for k := range s.keys {
						w[name][k] = true
					}
				}
				w[name][s.keys+i] = true
			}
		}
	}
	return w
}

// Has tells whether a column is wanted.
func (w Want) Has(table string, place int) bool {
	if w == nil {
		return true
	}
	columns := w[table]
	return columns != nil && columns[place]
}

// Wants says which columns are to be there. The others are not: whoever reads one has asked for too little.
func (l *Leaf) Wants(w Want) { l.want = w }

// New makes a leaf without anything.
func New(host int32) *Leaf {
	return &Leaf{Host: host, Words: []string{""}, Tables: map[string]*Table{}}
}

// Word is the number of a word in this leaf.
func (l *Leaf) Word(s string) int64 {
	i, there := l.known()[s]
	if !there {
		i = l.addWord(s)
	}
	return i
}

// WordOf is Word of bytes.
func (l *Leaf) WordOf(b []byte) int64 {
	i, there := l.known()[string(b)]
	if !there {
		i = l.addWord(string(b))
	}
	return i
}

// numberOf is the number of a word, -1 where the leaf has it not.
func (l *Leaf) numberOf(s string) int64 {
	i, there := l.known()[s]
	if !there {
		return -1
	}
	return i
}

// known are the numbers of words.
func (l *Leaf) known() map[string]int64 {
	if l.word == nil {
		l.word = make(map[string]int64, len(l.Words))
		for i, w := range l.Words {
			l.word[w] = int64(i)
		}
	}
	return l.word
}

func (l *Leaf) addWord(s string) int64 {
	i := int64(len(l.Words))
	l.known()[s] = i
	l.Words = append(l.Words, s)
	if l.desk != nil {
		l.desk.words = l.Words
	}
	return i
}

// Only has nothing but some tables made, with those that any other needs: whoever lays out what is asked for seldom
// saves most of the work.
func (l *Leaf) Only(tables map[string]bool) { l.only = tables }

// Makes tells whether a table is made in this leaf.
func (l *Leaf) Makes(name string) bool {
	return l.only == nil || l.only[name] || name == Who || name == Intervals
}

// Table is a table, made if it is not there; nil for one that is not made in this leaf.
func (l *Leaf) Table(name string) *Table {
	if !l.Makes(name) {
		return nil
	}
	if l.Tables[name] == nil {
		l.Tables[name] = NewTable(name)
	}
	return l.Tables[name]
}

// Intervals is how many intervals, or sums of some, the leaf has.
func (l *Leaf) Intervals() int { return l.Tables[Intervals].Rows() }

// Bytes is about how much memory the leaf takes.
func (l *Leaf) Bytes() int {
	n := 1000
	for _, t := range l.Tables {
		for i := range t.Low {
			n += 8 * (len(t.Low[i]) + len(t.High[i]))
		}
	}
	for _, w := range l.Words {
		n += 16 + len(w)
	}
	return n
}

// Start is when an interval began.
func (l *Leaf) Start(at int64) time.Time {
	return time.UnixMicro(l.Tables[Intervals].Of("start")[at]).UTC()
}

// Fill undoes what packing did to columns (Relate), and makes those of a leaf of intervals that follow from others. A
// column that a program before this one did not store is 0.
func (l *Leaf) Fill() {
	l.unrelate()
	in := l.Tables[Intervals]
	starts, elapsed := in.Of("start"), in.Of("elapsed")
	for _, t := range l.Tables {
		rows := t.Rows()
		ats := t.Of(At)
		for i, c := range t.Schema.Columns {
			if len(t.Low[i]) == rows || rows == 0 || !l.want.Has(t.Schema.Name, i) {
				continue
			}
			column := l.Numbers(rows)
			var from []int64
			if c.From != "" {
				from = t.Of(c.From)
			}
			if l.Summed || c.Fill == Stored {
				t.Low[i] = column
				continue
			}
			for row := range column {
				switch at := ats[row]; c.Fill {
				case ByStart:
					column[row] = starts[at]
				case ByEnd:
					column[row] = starts[at] + elapsed[at]*1000
				case ByElapsed:
					column[row] = elapsed[at]
				case ByOne:
					column[row] = 1
				case BySame:
					column[row] = from[row]
				case ByUnlacked:
					if amount.Source(from[row]) == amount.Unavailable {
						column[row] = 1
					}
				}
			}
			t.Low[i] = column
			if c.Fill == BySame {
				t.High[i] = t.High[t.Schema.Index(c.From)]
			}
		}
	}
}

// User is whose a figure is.
type User struct {
	Workload int64 // 0 where it is not the asker's to see
	Tenant   int32
}

// View is what of a leaf an asker may see.
type View struct {
	*Leaf
	Within []bool // by interval: it is in the span
	users  []User // by slot and interval
	scope  *question.Scope
	exists func(tenant int32) bool
}

// MaySee is a user as an asker may see it: nobody where that is out of the scope.
func (v *View) MaySee(u User) User {
	if u.Tenant != 0 && !v.exists(u.Tenant) {
		u.Tenant = 0
	}
	if !v.scope.HasWorkload(u.Workload) || !v.scope.HasTenant(u.Tenant) {
		return User{}
	}
	return u
}

// User is whose a row is; false where it is nobody's that may be told, or not of the span.
func (v *View) User(slot, at int64) (User, bool) {
	u := v.users[int(slot)*len(v.Within)+int(at)]
	return u, u.Workload != 0
}

// Viewer makes views of leaves for one asker.
type Viewer struct {
	scope  *question.Scope
	exists func(tenant int32) bool
	only   map[int64]bool // workloads of the scope; nil for all
}

// NewViewer makes views of what is in a scope: in its span, of its workloads and tenants. Exists tells tenants that are
// there; usage of one that was removed is unassigned.
func NewViewer(scope *question.Scope, exists func(tenant int32) bool) *Viewer {
	w := &Viewer{scope: scope, exists: exists}
	if scope.Only != nil {
		w.only = make(map[int64]bool, len(scope.Only))
		for _, id := range scope.Only {
			w.only[id] = true
		}
	}
	return w
}

// View is what of the leaf is in a scope; see NewViewer.
func (l *Leaf) View(scope *question.Scope, exists func(tenant int32) bool) *View {
	return NewViewer(scope, exists).View(l)
}

// View is what of a leaf the asker may see.
func (w *Viewer) View(l *Leaf) *View {
	scope, exists, only := w.scope, w.exists, w.only
	l.Fill()
	who := l.Tables[Who]
	v := &View{Leaf: l, Within: l.Within(scope.Span), scope: scope, exists: exists}
	slots, ats, workloads, tenants := who.Of(Slot), who.Of(At), who.Of("workload"), who.Of("tenant")
	if len(slots) == 0 {
		return v
	}
	if n := (int(slices.Max(slots)) + 1) * len(v.Within); l.desk == nil {
		v.users = make([]User, n)
	} else {
		v.users = room(&l.desk.users, n)
	}
	last, there := int32(0), true
	for row, slot := range slots {
		tenant := int32(tenants[row])
		if tenant != last {
			last, there = tenant, exists(tenant)
		}
		if tenant != 0 && !there {
			tenant = 0
		}
		if v.Within[ats[row]] && (only == nil || only[workloads[row]]) && scope.HasTenant(tenant) {
			v.users[int(slot)*len(v.Within)+int(ats[row])] = User{workloads[row], tenant}
		}
	}
	return v
}

// OnlyHours lets nothing but the sums of some hours of the day count, of a leaf that holds those of a day. Bit n is for
// the hour that begins at n o'clock UTC.
func (l *Leaf) OnlyHours(hours int32) { l.except = ^hours }

// Hours are the hours of the day in which the leaf's intervals begin, as the bits of OnlyHours.
func (l *Leaf) Hours() (hours int32) {
	for at := range l.Intervals() {
		hours |= 1 << l.Start(int64(at)).Hour()
	}
	return hours
}

// Within tells which intervals of the leaf begin in a span, and count.
func (l *Leaf) Within(span question.Span) []bool {
	starts := l.Tables[Intervals].Of("start")
	within := make([]bool, len(starts))
	for at, start := range starts {
		t := time.UnixMicro(start)
		within[at] = span.Holds(t) && (l.except == 0 || l.except>>t.UTC().Hour()&1 == 0)
	}
	return within
}

// Retenant accounts workloads to other tenants, in the intervals that begin in a span. It tells whether anything
// changed. A sum that begins before the span and ends in it cannot be divided: it is left as it is.
func (l *Leaf) Retenant(span question.Span, to map[int64]int32) (changed bool) {
	within := l.Within(span)
	for _, t := range []struct{ table, workload, tenant string }{{Who, "workload", "tenant"},
		{Links, "end_workload", "end_tenant"}} {
		table := l.Tables[t.table]
		ats, workloads, tenants := table.Of(At), table.Of(t.workload), table.Of(t.tenant)
		for row, w := range workloads {
			if tenant, moves := to[w]; moves && within[ats[row]] && tenants[row] != int64(tenant) {
				tenants[row], changed = int64(tenant), true
			}
		}
	}
	return changed
}

// Load is a load as a leaf holds it: in thousandths, of which the kernel tells ten at once.
func Load(tasks float64) int64 { return int64(math.Round(tasks * 1000)) }

// Loads are the loads of an interval over 1, 5 and 15 minutes, as far as they were told.
func (l *Leaf) Loads(at int64) []float64 {
	t := l.Tables[Intervals]
	var loads []float64
	for _, column := range []string{"load_1", "load_5", "load_15"}[:min(t.Of("loads")[at], 3)] {
		loads = append(loads, float64(t.Of(column)[at])/1000)
	}
	return loads
}

// Has tells whether the leaf has any row in a section.
func (l *Leaf) Has(section string) bool {
	for _, t := range l.Tables {
		if t.Schema.Section == section && t.Rows() > 0 {
			return true
		}
	}
	return false
}

// EachUser visits whose rows there are, each user once an interval.
func (v *View) EachUser(visit func(User)) {
	for _, u := range v.users {
		if u.Workload != 0 {
			visit(u)
		}
	}
}
