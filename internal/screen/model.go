package screen

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/kballard/go-shellquote"
)

// What is kept to look back at: so many sheets of the place that is looked at, as far as they have no more cells than
// that, which is some 60 MB; of other places the newest, and of no more than so many.
const (
	mostKept   = 300
	mostCells  = 1_000_000
	mostPlaces = 50
)

// Options say how a screen begins.
type Options struct {
	Source  Source
	Page    string        // the first; empty for the first of the source's
	Pace    time.Duration // between readings
	Lag     time.Duration // for how long after a full pace figures are asked for: they have come by then
	Begin   *Place        // what is open at first; nil for nothing
	Self    string        // this program, by which acts are done; empty for none
	Env     []string      // what it needs to know beside this one's environment
	Explain func(column, listing string) (title, meaning string)
	Order   map[string]string   // by page, the column that lines are ordered by; with a dash before it, the most first
	Columns map[string][]string // by page, the columns that are shown, by name
}

// Run shows a source until a person leaves or the context ends.
func Run(ctx context.Context, o Options, more ...tea.ProgramOption) error {
	m := newModel(ctx, o)
	_, err := tea.NewProgram(m, append([]tea.ProgramOption{tea.WithContext(ctx)}, more...)...).Run()
	if ctx.Err() != nil {
		return nil
	}
	return err
}

// view is how a person has a page: it stays as it was when they come back to it.
type view struct {
	order      string // name of a column; empty for the source's own order
	isUpward   bool
	columns    []string // chosen ones by name; nil for the usual
	by         string
	measure    string
	isChecked  bool // the columns that were asked for at first are there
	shift      int  // columns that are scrolled away, after the first
	find       string
	lineOf     map[string]string // by place, the key of the line that is marked
	firstShown map[string]int
}

// model is the state of a screen.
type model struct {
	Options
	ctx           context.Context
	width, height int

	page   int
	path   []Place // what was opened, the innermost last
	views  map[string]*view
	past   map[Want][]*Sheet // by what was asked, oldest first
	at     int               // which of them is shown while held
	isHeld bool
	round  int // of readings: a tick or an answer of an older one is of what was looked at before

	trouble  string
	mistake  string // in what was asked for at first; told until a key is pressed
	isAsking bool
	reading  sync.Mutex // held while the source reads
	panel    *panel
	isFind   bool    // the words that lines are found by are being typed
	command  *string // a command that is being typed; nil for none
	zones    []zone
	body     int // lines of the table that fit
}

func newModel(ctx context.Context, o Options) *model {
	m := &model{Options: o, ctx: ctx, width: 80, height: 24, views: map[string]*view{}, past: map[Want][]*Sheet{}}
	for i, p := range o.Source.Pages() {
		if p.Name == o.Page {
			m.page = i
		}
	}
	if o.Begin != nil {
		m.path = []Place{*o.Begin}
	}
	return m
}

// Messages of the model to itself.
type (
	tickMsg struct{ round int }
	readMsg struct {
		round int
		want  Want
		sheet *Sheet
		err   error
	}
	doneMsg struct{ err error }
)

func (m *model) Init() tea.Cmd { return m.ask() }

// ask reads what is looked at now.
func (m *model) ask() tea.Cmd {
	if m.isAsking {
		return nil
	}
	m.isAsking = true
	want, round := m.want(), m.round
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(m.ctx, max(10*time.Second, 2*want.Pace))
		defer cancel()
		m.reading.Lock() // what was looked at before may still be read
		defer m.reading.Unlock()
		sheet, err := m.Source.Read(ctx, want)
		return readMsg{round, want, sheet, err}
	}
}

// turn goes on to something else to look at.
func (m *model) turn() tea.Cmd {
	m.round++
	m.forget()
	m.isHeld, m.trouble, m.panel, m.isFind, m.command, m.isAsking = false, "", nil, false, nil, false
	return m.ask()
}

// forget lets go of what was read of other places, but for the newest of each.
func (m *model) forget() {
	now := m.want()
	for want, list := range m.past {
		switch {
		case want == now:
		case len(m.past) > mostPlaces || len(list) == 0:
			delete(m.past, want)
		default:
			m.past[want] = slices.Clone(list[len(list)-1:])
		}
	}
}

// next is the next tick, at a full pace by the clock and a little later.
func (m *model) next() tea.Cmd {
	round, pace := m.round, m.Pace
	wait := time.Until(time.Now().Add(-m.Lag).Truncate(pace).Add(pace + m.Lag))
	return tea.Tick(wait, func(time.Time) tea.Msg { return tickMsg{round} })
}

func (m *model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = msg.Width, msg.Height
	case tickMsg:
		if msg.round == m.round {
			return m, m.ask()
		}
	case readMsg:
		if msg.round != m.round {
			return m, nil
		}
		m.isAsking = false
		m.take(&msg)
		return m, m.next()
	case doneMsg:
		if msg.err != nil {
			m.trouble = "the act: " + msg.err.Error()
		}
		return m, m.turn()
	case tea.KeyPressMsg:
		return m, m.press(msg)
	case tea.MouseClickMsg:
		return m, m.click(msg.X, msg.Y)
	case tea.MouseWheelMsg:
		if msg.Button == tea.MouseWheelUp {
			m.move(-3)
		} else {
			m.move(3)
		}
	}
	return m, nil
}

// take keeps what was read.
func (m *model) take(msg *readMsg) {
	if msg.err != nil {
		m.trouble = msg.err.Error()
		return
	}
	m.trouble = ""
	m.check(msg.sheet)
	all := append(m.past[msg.want], msg.sheet)
	list := shed(all, mostCells, mostKept)
	m.at = max(0, m.at-(len(all)-len(list)))
	m.past[msg.want] = list
	if !m.isHeld {
		m.at = len(list) - 1
	}
}

// shed lets the oldest sheets go until no more than so many are left with so many cells. The newest always stays.
func shed(list []*Sheet, cells, most int) []*Sheet {
	from := len(list)
	for from > 0 && len(list)-from < most {
		s := list[from-1]
		if cells -= len(s.Rows) * len(s.Columns); cells < 0 && from < len(list) {
			break
		}
		from--
	}
	return list[from:]
}

// check drops columns that were asked for at first and that there are none of, and says so.
func (m *model) check(s *Sheet) {
	v := m.view()
	if v.isChecked || len(s.Columns) == 0 {
		return
	}
	v.isChecked = true
	names := make([]string, len(s.Columns))
	for i, c := range s.Columns {
		names[i] = c.Name
	}
	unknown := func(name string) bool {
		if slices.Contains(names, name) {
			return false
		}
		m.mistake = fmt.Sprintf("there is no column %q: choose from %s", name, strings.Join(names, ", "))
		return true
	}
	if v.columns = slices.DeleteFunc(slices.Clone(v.columns), unknown); len(v.columns) == 0 {
		v.columns = nil
	}
	if v.order != "" && unknown(v.order) {
		v.order = ""
	}
}

func (m *model) pageNow() Page { return m.Source.Pages()[m.page] }

// view is how the page that is looked at is seen.
func (m *model) view() *view {
	name := m.pageNow().Name
	if len(m.path) > 0 {
		name = m.path[len(m.path)-1].Page
	}
	v := m.views[name]
	if v == nil {
		v = &view{lineOf: map[string]string{}, firstShown: map[string]int{}, columns: m.Columns[name]}
		v.order = strings.TrimPrefix(m.Order[name], "-")
		v.isUpward = !strings.HasPrefix(m.Order[name], "-") && v.order != ""
		m.views[name] = v
	}
	return v
}

func (m *model) want() Want {
	p, v := m.pageNow(), m.view()
	w := Want{Place: Place{Page: p.Name}, Pace: m.Pace, By: v.by, Measure: v.measure}
	if w.By == "" && len(p.By) > 0 {
		w.By = p.By[0]
	}
	if w.Measure == "" && len(p.Measures) > 0 {
		w.Measure = p.Measures[0]
	}
	if len(m.path) > 0 {
		w.Place = m.path[len(m.path)-1]
	}
	return w
}

// sheet is what is shown: the newest, or one from before while held; nil before there is one.
func (m *model) sheet() *Sheet {
	list := m.past[m.want()]
	if len(list) == 0 {
		return nil
	}
	if !m.isHeld {
		return list[len(list)-1]
	}
	return list[min(m.at, len(list)-1)]
}

// rows are the lines that are shown, in order.
func (m *model) rows() []*Row {
	s, v := m.sheet(), m.view()
	if s == nil {
		return nil
	}
	var rows []*Row
	for i := range s.Rows {
		if s.Rows[i].has(v.find) {
			rows = append(rows, &s.Rows[i])
		}
	}
	if at := slices.IndexFunc(s.Columns, func(c Column) bool { return c.Name == v.order }); at >= 0 {
		slices.SortStableFunc(
			rows,
			func(a, b *Row) int { return compare(a.Cells[at].Order, b.Cells[at].Order, v.isUpward) },
		)
	}
	return rows
}

// has tells whether all words stand in a row.
func (r *Row) has(words string) bool {
	if words == "" {
		return true
	}
	text := strings.ToLower(r.Find)
	for _, c := range r.Cells {
		text += "\x00" + strings.ToLower(c.Text)
	}
	for _, w := range strings.Fields(strings.ToLower(words)) {
		if !strings.Contains(text, w) {
			return false
		}
	}
	return true
}

// compare orders two cells; what is nothing comes last either way.
func compare(a, b any, isUpward bool) int {
	if a == nil || b == nil {
		return cmp.Compare(boolean(a == nil), boolean(b == nil))
	}
	n := 0
	switch a := a.(type) {
	case float64:
		b, _ := b.(float64)
		n = cmp.Compare(a, b)
	case string:
		b, _ := b.(string)
		n = cmp.Compare(strings.ToLower(a), strings.ToLower(b))
	}
	if !isUpward {
		n = -n
	}
	return n
}

func boolean(b bool) int {
	if b {
		return 1
	}
	return 0
}

// marked is the place of the marked line among those that are shown; 0 where it is gone.
func (m *model) marked(rows []*Row) int {
	key := m.view().lineOf[m.want().Of]
	return max(0, slices.IndexFunc(rows, func(r *Row) bool { return r.Key == key }))
}

// move marks another line, some further down.
func (m *model) move(by int) {
	if m.panel != nil {
		m.panel.move(by)
		return
	}
	rows := m.rows()
	if len(rows) == 0 {
		return
	}
	to := min(max(m.marked(rows)+by, 0), len(rows)-1)
	m.view().lineOf[m.want().Of] = rows[to].Key
}

// open opens the marked line.
func (m *model) open() tea.Cmd {
	rows := m.rows()
	if len(rows) == 0 {
		return nil
	}
	r := rows[m.marked(rows)]
	if r.Open == nil {
		m.trouble = "this line has nothing within it"
		return nil
	}
	m.path = append(m.path, *r.Open)
	return m.turn()
}

// back closes what was opened last; first it drops the words that lines are found by.
func (m *model) back() tea.Cmd {
	if v := m.view(); v.find != "" {
		v.find = ""
		return nil
	}
	if len(m.path) == 0 {
		m.trouble = ""
		return nil
	}
	m.path = m.path[:len(m.path)-1]
	return m.turn()
}

// goTo turns to another page.
func (m *model) goTo(page int) tea.Cmd {
	n := len(m.Source.Pages())
	m.page, m.path = (page+n)%n, nil
	return m.turn()
}

// hold holds still, or goes on.
func (m *model) hold() {
	m.isHeld = !m.isHeld && m.sheet() != nil
	m.at = len(m.past[m.want()]) - 1
}

// look looks back, or forward again, by some readings.
func (m *model) look(by int) {
	n := len(m.past[m.want()])
	if n == 0 {
		return
	}
	if !m.isHeld {
		m.isHeld, m.at = true, n-1
	}
	m.at = min(max(m.at+by, 0), n-1)
}

// orderBy orders lines by a column: figures with the most first; by the same column again the other way round.
func (m *model) orderBy(name string) {
	v, s := m.view(), m.sheet()
	if v.order == name {
		v.isUpward = !v.isUpward
		return
	}
	v.order, v.isUpward = name, true
	if at := slices.IndexFunc(s.Columns, func(c Column) bool { return c.Name == name }); at >= 0 {
		for i := range s.Rows {
			if o := s.Rows[i].Cells[at].Order; o != nil {
				_, isNumber := o.(float64)
				v.isUpward = !isNumber
				break
			}
		}
	}
}

// act has this program do a command, which asks before it does anything, in the terminal itself.
func (m *model) act(line string) tea.Cmd {
	args, err := shellquote.Split(line)
	if err != nil {
		m.trouble = "that is no command line: " + err.Error()
		return nil
	}
	c := exec.CommandContext(m.ctx, m.Self, args...)
	c.Env = append(os.Environ(), m.Env...)
	return tea.Exec(&attended{c}, func(err error) tea.Msg { return doneMsg{err} })
}

// attended is a command whose last words stay on the screen until somebody has read them.
type attended struct{ *exec.Cmd }

func (a *attended) SetStdin(r io.Reader)  { a.Stdin = r }
func (a *attended) SetStdout(w io.Writer) { a.Stdout = w }
func (a *attended) SetStderr(w io.Writer) { a.Stderr = w }

func (a *attended) Run() error {
	err := a.Cmd.Run()
	fmt.Fprint(a.Stdout, "\nPress Enter to go back to the figures. ")
	for b := make([]byte, 1); ; {
		if n, err := a.Stdin.Read(b); err != nil || n == 1 && (b[0] == '\n' || b[0] == '\r') {
			break
		}
	}
	if _, is := err.(*exec.ExitError); is {
		return nil // the command has said what was wrong
	}
	return err
}
