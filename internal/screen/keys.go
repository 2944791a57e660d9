package screen

import (
	"time"
	"unicode/utf8"

	tea "charm.land/bubbletea/v2"
)

// key is a key with what it does, as it is shown below the figures.
type key struct {
	name  string // as the terminal tells it
	shown string
	does  string
	when  func(*model) bool // it does something now; nil for always
	do    func(*model) tea.Cmd
	of    func(*Row) bool // it does something with this line; nil for with all
}

// isOffered tells whether a key does something now, with the line that is marked.
func (k *key) isOffered(m *model) bool {
	if k.when != nil && !k.when(m) {
		return false
	}
	if k.of == nil {
		return true
	}
	rows := m.rows()
	return len(rows) > 0 && k.of(rows[m.marked(rows)])
}

func only(do func(*model)) func(*model) tea.Cmd {
	return func(m *model) tea.Cmd { do(m); return nil }
}

// keys are all keys, in the order in which they are shown. Those that move within a list are in moves.
var keys = []key{
	{"tab", "Tab", "next page", nil, func(m *model) tea.Cmd { return m.goTo(m.page + 1) }, nil},
	{"enter", "Enter", "open", nil, (*model).open, func(r *Row) bool { return r.Open != nil }},
	{"esc", "Esc", "back", func(m *model) bool { return len(m.path) > 0 || m.view().find != "" }, (*model).back, nil},
	{"f", "f", "find", nil, only(func(m *model) { m.isFind = true }), nil},
	{"o", "o", "order", nil, only((*model).chooseOrder), nil},
	{"g", "g", "group by", func(m *model) bool { return len(m.path) == 0 && len(m.pageNow().By) > 1 },
		only((*model).chooseGroup), nil},
	{"m", "m", "measure", func(m *model) bool { return len(m.path) == 0 && len(m.pageNow().Measures) > 1 },
		only((*model).chooseMeasure), nil},
	{"c", "c", "columns", nil, only((*model).chooseColumns), nil},
	{"p", "p", "pace", nil, only((*model).choosePace), nil},
	{"h", "h", "hold", nil, only((*model).hold), nil},
	{",", ",", "earlier", nil, only(func(m *model) { m.look(-1) }), nil},
	{".", ".", "later", func(m *model) bool { return m.isHeld }, only(func(m *model) { m.look(1) }), nil},
	{"a", "a", "act", func(m *model) bool { return m.Self != "" }, only((*model).chooseAct),
		func(r *Row) bool { return len(r.Acts) > 0 }},
	{"w", "w", "what is this", nil, only((*model).explain), nil},
	{"q", "q", "leave", nil, func(*model) tea.Cmd { return tea.Quit }, nil},
}

// helpKey opens the list of all keys; it is apart, since that list is made of the others.
var helpKey = key{"?", "?", "keys", nil, only((*model).allKeys), nil}

// moves are keys that move within a list, as everywhere.
var moves = map[string]func(*model){
	"up": func(m *model) { m.move(-1) }, "down": func(m *model) { m.move(1) },
	"pgup": func(m *model) { m.move(-max(1, m.body-1)) }, "pgdown": func(m *model) { m.move(max(1, m.body-1)) },
	"home": func(m *model) { m.move(-1 << 30) }, "end": func(m *model) { m.move(1 << 30) },
	"left":  func(m *model) { v := m.view(); v.shift = max(0, v.shift-1) },
	"right": func(m *model) { v := m.view(); v.shift = min(v.shift+1, max(0, len(m.shown())-2)) },
}

// press does what a key does.
func (m *model) press(k tea.KeyPressMsg) tea.Cmd {
	name := k.String()
	m.mistake = ""
	switch {
	case name == "ctrl+c":
		return tea.Quit
	case m.command != nil:
		return m.typeCommand(k)
	case m.isFind:
		m.typeWord(k)
		return nil
	case m.panel != nil:
		return m.panel.press(m, name)
	case name == "shift+tab":
		return m.goTo(m.page - 1)
	}
	if move := moves[name]; move != nil {
		move(m)
		return nil
	}
	if name == helpKey.name {
		return helpKey.do(m)
	}
	for i := range keys {
		if x := &keys[i]; x.name == name && (x.when == nil || x.when(m)) {
			return x.do(m)
		}
	}
	if n := int(name[0] - '1'); len(name) == 1 && n >= 0 && n < len(m.Source.Pages()) && n < 9 {
		return m.goTo(n)
	}
	return nil
}

// typeWord takes a key while the words that lines are found by are typed.
func (m *model) typeWord(k tea.KeyPressMsg) {
	v := m.view()
	switch k.String() {
	case "enter":
		m.isFind = false
	case "esc":
		m.isFind, v.find = false, ""
	default:
		v.find = typed(v.find, k)
	}
}

// typeCommand takes a key while a command is typed.
func (m *model) typeCommand(k tea.KeyPressMsg) tea.Cmd {
	switch k.String() {
	case "enter":
		line := *m.command
		m.command = nil
		return m.act(line)
	case "esc":
		m.command = nil
	default:
		*m.command = typed(*m.command, k)
	}
	return nil
}

// typed is a text after a key.
func typed(text string, k tea.KeyPressMsg) string {
	if k.String() == "backspace" {
		_, n := utf8.DecodeLastRuneInString(text)
		return text[:len(text)-n]
	}
	return text + k.Text
}

// zone is a part of the screen that can be pressed with a mouse.
type zone struct {
	y, from, to int // columns from and, not included, to
	do          func() tea.Cmd
}

func (m *model) click(x, y int) tea.Cmd {
	for _, z := range m.zones {
		if z.y == y && x >= z.from && x < z.to {
			return z.do()
		}
	}
	return nil
}

// setPace reads at another pace from now on.
func (m *model) setPace(p time.Duration) tea.Cmd {
	m.Pace = p
	return m.turn()
}
