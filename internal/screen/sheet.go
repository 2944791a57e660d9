package screen

import (
	"context"
	"time"
)

// Source reads what is shown. Read is called once at a time, from another goroutine than the one that draws and calls
// the other methods: these tell what does not change.
type Source interface {
	// Title says whose figures they are.
	Title() string
	// Pages are the pages there are, in the order in which they are offered.
	Pages() []Page
	// Read reads what a place shows now. Its error is shown, and reading is tried again at the next tick.
	Read(ctx context.Context, want Want) (*Sheet, error)
	// Paces are those at which it can be read, the fastest first.
	Paces() []time.Duration
}

// Page is something that can be looked at.
type Page struct {
	Name     string
	By       []string // what its lines can be grouped by, the usual first; empty for nothing
	Measures []string // whose ledger stands above its lines, the usual first; empty for none
}

// Place is what is looked at: a page, or something within it that was opened.
type Place struct {
	Page string
	Of   string // what was opened, as its source names it; empty for the page itself
	Name string // that, for people
}

// Want is what is read.
type Want struct {
	Place
	By, Measure string
	Pace        time.Duration
}

// Sheet is what a place shows at a moment.
type Sheet struct {
	At      time.Time
	Head    []string // lines above the table, such as a ledger
	Columns []Column
	Rows    []Row
	Note    string // below the table; empty for none
	Cost    string // what looking costs, in words; empty where it is not known
	Listing string // the listing whose columns these are, by which they are explained
}

// Column is a column of a sheet.
type Column struct {
	Name, Head string
	Right      bool // figures stand at the right
	Extra      bool // shown only once it was chosen
}

// Row is a line of a sheet.
type Row struct {
	Key   string // tells it from others, also in the next sheet
	Cells []Cell // one for each column
	Open  *Place // what opening it leads to; nil for nothing
	Find  string // what it is found by, beside what its cells say
	Acts  []Act  // what can be done with it
}

// Cell is what stands in a column of a row.
type Cell struct {
	Text  string
	Order any // a float64 or a string, by which rows are ordered; nil for nothing, which comes last
}

// Act is something that can be done with a line: a command of this program, which asks before it does anything.
type Act struct {
	Name string
	Args []string
}
