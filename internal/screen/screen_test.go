package screen

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/mattn/go-runewidth"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// press house: a source of two pages whose figures are uneven and move from reading to reading.
type cellar struct {
	reads   []Want
	trouble error
	litres  map[string]float64
}

func (c *cellar) Title() string { return "cellar-1" }
func (c *cellar) Paces() []time.Duration {
	return []time.Duration{time.Second, 5 * time.Second, time.Minute}
}
func (c *cellar) Pages() []Page {
	return []Page{
		{Name: "Barrels", By: []string{"barrel", "grape"}, Measures: []string{"wine", "must"}},
		{Name: "Presses"},
	}
}

var cellarBegan = time.Date(2026, 11, 27, 9, 0, 0, 0, time.UTC)

func (c *cellar) Read(_ context.Context, want Want) (*Sheet, error) {
	c.reads = append(c.reads, want)
	if c.trouble != nil {
		return nil, c.trouble
	}
	s := &Sheet{At: cellarBegan.Add(time.Duration(len(c.reads)) * 5 * time.Second), Listing: "barrels",
		Head: []string{"ledger of " + want.Measure}, Note: "of one cellar", Cost: "costs little",
		Columns: []Column{{Name: "name", Head: "barrel"}, {Name: "litres", Head: "litres", Right: true},
			{Name: "grape", Head: "grape"}, {Name: "cooper", Head: "cooper", Extra: true}}}
	if want.Of != "" {
		s.Rows = []Row{{Key: "stave", Cells: []Cell{{Text: "stave of " + want.Of}, {Text: "1", Order: 1.0}, {}, {}}}}
		return s, nil
	}
	for _, name := range []string{"north", "south", "west", "east"} {
		r := Row{
			Key: name,
			Cells: []Cell{{Text: name, Order: name}, {Text: "–"}, {Text: "nebbiolo", Order: "nebbiolo"},
				{Text: "k.rau", Order: "k.rau"}},
			Find: "pid-" + name,
			Open: &Place{Page: "Staves", Of: name, Name: "barrel " + name},
			Acts: []Act{{Name: "rack", Args: []string{"act", "rack", "two words"}}},
		}
		if v, is := c.litres[name]; is {
			r.Cells[1] = Cell{Text: fmt.Sprintf("%.1f", v), Order: v}
		}
		s.Rows = append(s.Rows, r)
	}
	return s, nil
}

// hand works a screen as a person does.
type hand struct {
	t *testing.T
	m *model
	c *cellar
}

func begin(t *testing.T, o Options) *hand {
	c := &cellar{litres: map[string]float64{"north": 2.5, "south": 100, "west": 9}}
	o.Source, o.Pace = c, 5*time.Second
	h := &hand{t, newModel(context.Background(), o), c}
	h.size(80, 24)
	h.do(h.m.Init())
	return h
}

// do carries out a command, and gives the model what comes of it, but ticks: those are sent by read.
func (h *hand) do(cmd tea.Cmd) {
	if cmd == nil {
		return
	}
	done := make(chan tea.Msg, 1)
	go func() { done <- cmd() }()
	select {
	case msg := <-done:
		if _, isTick := msg.(tickMsg); !isTick {
			_, more := h.m.Update(msg)
			h.do(more)
		}
	case <-time.After(50 * time.Millisecond): // it waits for the next pace
	}
}

func (h *hand) size(width, height int) { h.m.Update(tea.WindowSizeMsg{Width: width, Height: height}) }

func (h *hand) read() {
	_, cmd := h.m.Update(tickMsg{h.m.round})
	h.do(cmd)
}

func (h *hand) press(keys ...string) {
	special := map[string]tea.KeyPressMsg{
		"enter":     {Code: tea.KeyEnter},
		"esc":       {Code: tea.KeyEscape},
		"tab":       {Code: tea.KeyTab},
		"shift+tab": {Code: tea.KeyTab, Mod: tea.ModShift},
		"up":        {Code: tea.KeyUp},
		"down":      {Code: tea.KeyDown},
		"left":      {Code: tea.KeyLeft},
		"right":     {Code: tea.KeyRight},
		"end":       {Code: tea.KeyEnd},
		"space":     {Code: tea.KeySpace, Text: " "},
		"backspace": {Code: tea.KeyBackspace},
	}
	for _, k := range keys {
		msg, is := special[k]
		if !is {
			msg = tea.KeyPressMsg{Code: []rune(k)[0], Text: k}
		}
		_, cmd := h.m.Update(msg)
		h.do(cmd)
	}
}

var attributes = regexp.MustCompile("\x1b\\[[0-9]*m")

// lines is what is seen, without attributes.
func (h *hand) lines() []string {
	lines := strings.Split(attributes.ReplaceAllString(h.m.View().Content, ""), "\n")
	assert.Len(h.t, lines, h.m.height, "the screen is full, and not more")
	for _, l := range lines {
		assert.LessOrEqual(h.t, runewidth.StringWidth(l), h.m.width, "%q", l)
	}
	return lines
}

func (h *hand) text() string { return strings.Join(h.lines(), "\n") }

// names are the barrels in the order in which they stand.
func (h *hand) names() (names []string) {
	for _, l := range h.lines() {
		if f := strings.Fields(strings.TrimPrefix(l, "▸")); len(f) > 1 &&
			strings.Contains("north south west east", f[0]) {
			names = append(names, f[0])
		}
	}
	return names
}

// at finds where a text stands.
func (h *hand) at(text string) (x, y int) {
	for y, l := range h.lines() {
		if i := strings.Index(l, text); i >= 0 {
			return runewidth.StringWidth(l[:i]), y
		}
	}
	require.Fail(h.t, "not seen", "%q in\n%s", text, h.text())
	return 0, 0
}

func (h *hand) click(text string) {
	x, y := h.at(text)
	_, cmd := h.m.Update(tea.MouseClickMsg{X: x, Y: y, Button: tea.MouseLeft})
	h.do(cmd)
}

func (h *hand) marked() string {
	for _, l := range h.lines() {
		if after, is := strings.CutPrefix(l, "▸ "); is {
			return strings.Fields(after)[0]
		}
	}
	return ""
}

func TestOrder_FiguresBeginWithTheMostAndWhatIsNoneComesLast(t *testing.T) {
	h := begin(t, Options{})
	assert.Equal(t, []string{"north", "south", "west", "east"}, h.names(), "the source's own order")
	h.press("o", "down", "enter")
	assert.Equal(t, []string{"south", "west", "north", "east"}, h.names())
	h.press("o", "enter")
	assert.Equal(t, []string{"north", "west", "south", "east"}, h.names(), "turned round; none is last still")
	assert.Contains(t, h.text(), "litres ↑")
	h.click("barrel")
	assert.Equal(
		t,
		[]string{"east", "north", "south", "west"},
		h.names(),
		"words begin with the first, by a mouse too",
	)
	assert.Equal(t, []string{"south", "west", "north", "east"},
		begin(t, Options{Order: map[string]string{"Barrels": "-litres"}}).names(), "as it was asked for")
}

func TestMark_StaysOnItsLineWhereverThatGoes(t *testing.T) {
	h := begin(t, Options{Order: map[string]string{"Barrels": "-litres"}})
	h.press("down")
	assert.Equal(t, "west", h.marked())
	h.c.litres["west"] = 1000
	h.read()
	assert.Equal(t, []string{"west", "south", "north", "east"}, h.names())
	assert.Equal(t, "west", h.marked())
	h.press("end")
	assert.Equal(t, "east", h.marked())
	h.press("down", "down")
	assert.Equal(t, "east", h.marked(), "there is nothing below")
	assert.Contains(t, h.text(), "4 of 4 · of one cellar")
}

func TestFind_ByAnyCellOrWhatALineIsFoundBy(t *testing.T) {
	h := begin(t, Options{})
	h.press("f", "P", "I", "D", "-", "e")
	assert.Equal(t, []string{"east"}, h.names(), "also while it is typed")
	assert.Contains(t, h.text(), "1 of 1, 3 more do not match")
	h.press("backspace", "w", "enter")
	assert.Equal(t, []string{"west"}, h.names())
	h.press("esc")
	assert.Len(t, h.names(), 4)
}

func TestHold_LooksBackAndForwardAndReadsOn(t *testing.T) {
	h := begin(t, Options{})
	h.c.litres["north"] = 3
	h.read()
	h.c.litres["north"] = 4
	h.read()
	assert.Contains(t, h.text(), "4.0")
	h.press("h", ",", ",")
	assert.Contains(t, h.text(), "2.5")
	assert.Contains(t, h.text(), "10s back")
	h.press(",")
	assert.Contains(t, h.text(), "2.5", "there is nothing before")
	h.c.litres["north"] = 5
	h.read()
	assert.Contains(t, h.text(), "15s back", "it is read on meanwhile")
	h.press(".")
	assert.Contains(t, h.text(), "3.0")
	h.press("h")
	assert.Contains(t, h.text(), "5.0")
	assert.NotContains(t, h.text(), "back ")
}

func TestOpen_GoesInAndComesBackToTheSameLine(t *testing.T) {
	h := begin(t, Options{})
	h.press("down", "enter")
	assert.Equal(t, Want{Place: Place{Page: "Staves", Of: "south", Name: "barrel south"}, Pace: 5 * time.Second,
		By: "barrel", Measure: "wine"}, h.c.reads[len(h.c.reads)-1])
	assert.Contains(t, h.text(), "within barrel south")
	assert.Contains(t, h.text(), "stave of south")
	assert.NotContains(t, h.text(), "Enter:open", "a key that does nothing with this line is not offered")
	assert.Contains(t, h.text(), "Esc:back")
	h.press("enter")
	assert.Contains(t, h.text(), "! this line has nothing within it")
	h.press("esc")
	assert.Equal(t, "south", h.marked())
	h.click("west")
	assert.Equal(t, "west", h.marked())
	h.click("west")
	assert.Contains(t, h.text(), "stave of west", "what is marked is opened")
	h.press("esc", "f", "s", "o", "enter", "enter")
	assert.Contains(t, h.text(), "stave of south", "what was found is opened")
	h.press("tab")
	assert.Contains(t, h.text(), "[Presses]")
	assert.NotContains(t, h.text(), "within")
	h.press("shift+tab")
	assert.Contains(t, h.text(), "[Barrels]")
	h.click("Presses")
	assert.Contains(t, h.text(), "[Presses]")
	assert.Equal(t, "Staves", begin(t, Options{Begin: &Place{Page: "Staves", Of: "north"}}).c.reads[0].Page)
}

func TestChoices_OfGroupsMeasuresPaceAndColumns(t *testing.T) {
	h := begin(t, Options{})
	last := func() Want { return h.c.reads[len(h.c.reads)-1] }
	h.press("g", "down", "enter")
	assert.Equal(t, "grape", last().By)
	h.press("m", "down", "enter")
	assert.Equal(t, "must", last().Measure)
	assert.Contains(t, h.text(), "ledger of must")
	h.press("p", "down", "enter")
	assert.Equal(t, time.Minute, last().Pace)
	assert.Contains(t, h.text(), "every 1m")
	assert.NotContains(t, h.text(), "cooper")
	h.press("c", "end", "space", "up", "space", "enter")
	_, y := h.at("cooper")
	assert.NotContains(t, h.lines()[y], "grape")
	h.press("c", "space", "down", "space", "down", "down", "space", "enter")
	assert.Contains(t, h.text(), "grape", "without any, the usual are shown")
	h.press("w")
	assert.NotContains(t, h.text(), "What the columns mean", "nothing explains them")
}

func TestExplain_SaysWhatEachColumnMeans(t *testing.T) {
	h := begin(t, Options{Explain: func(column, listing string) (string, string) {
		if column != "litres" {
			return "", ""
		}
		return "Litres", "What is in it, of " + listing + "."
	}})
	h.press("w")
	assert.Contains(t, h.text(), "litres: What is in it, of barrels.", "a title that is the head is not said again")
	assert.NotContains(t, h.text(), "north")
	h.press("esc")
	assert.Contains(t, h.text(), "north")
}

func TestTrouble_IsToldAndTheLastFiguresStay(t *testing.T) {
	h := begin(t, Options{})
	h.c.trouble = errors.New("the service does not answer")
	h.read()
	assert.Contains(t, h.text(), "! the service does not answer")
	assert.Contains(t, h.text(), "north")
	h.c.trouble = nil
	h.read()
	assert.NotContains(t, h.text(), "!")
	h = begin(t, Options{Page: "Presses"})
	assert.Contains(t, h.text(), "[Presses]")
}

func TestAnswers_OfWhatWasLookedAtBeforeAreDropped(t *testing.T) {
	h := begin(t, Options{})
	old := readMsg{h.m.round, h.m.want(), &Sheet{Columns: []Column{{Name: "x", Head: "stale"}}}, nil}
	h.press("tab")
	_, cmd := h.m.Update(old)
	assert.Nil(t, cmd)
	_, cmd = h.m.Update(tickMsg{old.round})
	assert.Nil(t, cmd)
	assert.NotContains(t, h.text(), "stale")
	h.m.isAsking = true
	_, cmd = h.m.Update(tickMsg{h.m.round})
	assert.Nil(t, cmd, "it is not asked twice at once")
}

func TestAct_IsShownAsACommandThatCanBeChanged(t *testing.T) {
	h := begin(t, Options{Self: "/bin/true"})
	assert.Contains(t, h.text(), "a:act")
	h.press("?")
	assert.Regexp(t, `a +act`, h.text())
	h.press("esc", "a")
	assert.Contains(t, h.text(), "vinescale act rack 'two words'")
	h.press("enter", "-", "-", "x")
	assert.Contains(t, h.text(), "do: vinescale act rack 'two words' --x")
	h.press("esc")
	assert.NotContains(t, h.text(), "do:")
	h.press("a", "enter", "'", "enter")
	assert.Contains(t, h.text(), "! that is no command line")
	without := begin(t, Options{})
	without.press("a")
	assert.NotContains(t, without.text(), "rack", "without a program to do it")
}

func TestColumns_ThatThereAreNoneOfAreToldAndLeftOut(t *testing.T) {
	h := begin(t, Options{Columns: map[string][]string{"Barrels": {"litres", "must"}},
		Order: map[string]string{"Barrels": "-vintage"}})
	assert.Contains(t, h.text(), `! there is no column "vintage": choose from name, litres, grape, cooper`)
	h.read()
	assert.Contains(t, h.text(), "! there is no column", "until it was read")
	assert.Contains(t, h.lines(), "  litres", "the one that there is is shown alone")
	h.press("down")
	assert.NotContains(t, h.text(), "! there is no column")
	h = begin(t, Options{Columns: map[string][]string{"Barrels": {"must"}}})
	assert.Contains(t, h.text(), `! there is no column "must"`)
	assert.Len(t, h.names(), 4, "the usual ones are shown")
}

func TestShed_KeepsWhatFits(t *testing.T) {
	of := func(rows int) *Sheet { return &Sheet{Columns: make([]Column, 2), Rows: make([]Row, rows)} }
	list := []*Sheet{of(10), of(5), of(3), of(2)}
	assert.Equal(t, list, shed(list, 40, 4))
	assert.Equal(t, list[1:], shed(list, 39, 4), "the oldest go first")
	assert.Equal(t, list[2:], shed(list, 40, 2))
	assert.Equal(t, list[3:], shed(list, 1, 4), "the newest stays, however large")
}

func TestPast_OfWhatIsNotLookedAtIsItsNewestReading(t *testing.T) {
	h := begin(t, Options{})
	h.read()
	h.read()
	assert.Len(t, h.m.past[h.m.want()], 3)
	were := h.m.want()
	h.press("tab")
	assert.Len(t, h.m.past[were], 1)
	for i := range 2 * mostPlaces {
		h.m.past[Want{Place: Place{Of: fmt.Sprint(i)}}] = nil
	}
	h.press("tab")
	assert.LessOrEqual(t, len(h.m.past), 2)
}

func TestDraw_FitsAnyWindow(t *testing.T) {
	h := begin(t, Options{})
	for _, size := range [][2]int{{80, 24}, {120, 40}, {40, 12}, {20, 8}, {200, 60}} {
		h.size(size[0], size[1])
		assert.Equal(t, "north", h.marked(), "%v", size)
	}
	h.size(24, 12)
	assert.Contains(t, h.text(), "barrel  litres")
	assert.NotContains(t, h.text(), "grape")
	h.press("right")
	assert.Contains(t, h.text(), "barrel  grape", "columns that find no room are reached")
	h.press("left", "left")
	assert.Contains(t, h.text(), "barrel  litres")
	assert.Equal(t, []string{"one two three four", "five six"}, wrap("one two three four five six", 20))
}

func TestDraw_ScrollsSoThatTheMarkedLineIsSeen(t *testing.T) {
	h := begin(t, Options{})
	h.size(80, 9)
	h.press("end")
	assert.Equal(t, "east", h.marked())
	h.press("up", "up", "up")
	assert.Equal(t, "north", h.marked())
}
