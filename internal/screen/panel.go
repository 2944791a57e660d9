package screen

import (
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/kballard/go-shellquote"
)

// panel is a list of things to choose from, or a text, in the place of the table.
type panel struct {
	title  string
	items  []string
	at     int
	chosen []bool // of those that can be chosen together; nil where one is
	take   func(m *model, at int) tea.Cmd
	done   func(m *model) tea.Cmd // of those that are chosen together
}

func (p *panel) move(by int) { p.at = min(max(p.at+by, 0), len(p.items)-1) }

func (p *panel) press(m *model, name string) tea.Cmd {
	switch name {
	case "esc", "q":
		m.panel = nil
	case "up":
		p.move(-1)
	case "down":
		p.move(1)
	case "pgup":
		p.move(-max(1, m.body-1))
	case "pgdown":
		p.move(max(1, m.body-1))
	case "home":
		p.move(-1 << 30)
	case "end":
		p.move(1 << 30)
	case "space":
		if p.chosen != nil {
			p.chosen[p.at] = !p.chosen[p.at]
		}
	case "enter":
		m.panel = nil
		if p.chosen != nil {
			return p.done(m)
		}
		if p.take != nil && len(p.items) > 0 {
			return p.take(m, p.at)
		}
	}
	return nil
}

// choose offers words, of which one is chosen.
func (m *model) choose(title string, words []string, now string, take func(m *model, word string) tea.Cmd) {
	m.panel = &panel{title: title, items: words, at: max(0, slices.Index(words, now)),
		take: func(m *model, at int) tea.Cmd { return take(m, words[at]) }}
}

func (m *model) chooseOrder() {
	s := m.sheet()
	if s == nil {
		return
	}
	var heads, names []string
	at := 0
	for _, c := range s.Columns {
		if c.Name == m.view().order {
			at = len(heads)
		}
		heads, names = append(heads, c.Head), append(names, c.Name)
	}
	m.panel = &panel{title: "Order lines by: the same again turns them round", items: heads, at: at,
		take: func(m *model, at int) tea.Cmd { m.orderBy(names[at]); return nil }}
}

func (m *model) chooseGroup() {
	m.choose("Group by", m.pageNow().By, m.want().By, func(m *model, word string) tea.Cmd {
		m.view().by = word
		return m.turn()
	})
}

func (m *model) chooseMeasure() {
	m.choose("Whose ledger stands above, and orders the lines", m.pageNow().Measures, m.want().Measure,
		func(m *model, word string) tea.Cmd {
			m.view().measure = word
			return m.turn()
		})
}

func (m *model) choosePace() {
	var words []string
	for _, p := range m.Source.Paces() {
		words = append(words, paceText(p))
	}
	m.choose("Read every", words, paceText(m.Pace), func(m *model, word string) tea.Cmd {
		d, _ := time.ParseDuration(word)
		return m.setPace(d)
	})
}

// paceText is a pace as people write it.
func paceText(d time.Duration) string {
	return strings.TrimSuffix(d.String(), "m0s") + map[bool]string{true: "m"}[d%time.Minute == 0]
}

func (m *model) chooseColumns() {
	s := m.sheet()
	if s == nil {
		return
	}
	p := &panel{title: "Columns: Space takes one in or out, Enter shows them"}
	shown := m.shown()
	for i, c := range s.Columns {
		p.items = append(p.items, c.Head)
		p.chosen = append(p.chosen, slices.Contains(shown, i))
	}
	p.done = func(m *model) tea.Cmd {
		v := m.view()
		v.columns, v.shift = []string{}, 0
		for i, c := range s.Columns {
			if p.chosen[i] {
				v.columns = append(v.columns, c.Name)
			}
		}
		if len(v.columns) == 0 {
			v.columns = nil
		}
		return nil
	}
	m.panel = p
}

func (m *model) chooseAct() {
	rows := m.rows()
	if len(rows) == 0 {
		return
	}
	r := rows[m.marked(rows)]
	if len(r.Acts) == 0 {
		m.trouble = "nothing can be done with this line"
		return
	}
	p := &panel{title: "Act on " + r.Cells[0].Text + ": each is shown first, and asks before it does anything"}
	for _, a := range r.Acts {
		p.items = append(p.items, fmt.Sprintf("%-14s vinescale %s", a.Name, shellquote.Join(a.Args...)))
	}
	p.take = func(m *model, at int) tea.Cmd {
		line := shellquote.Join(r.Acts[at].Args...) + " "
		m.command = &line
		return nil
	}
	m.panel = p
}

// explain says what each column means.
func (m *model) explain() {
	s := m.sheet()
	if s == nil || m.Explain == nil {
		return
	}
	p := &panel{title: "What the columns mean"}
	for _, c := range s.Columns {
		title, meaning := m.Explain(c.Name, s.Listing)
		if meaning == "" {
			continue
		}
		name := c.Head
		if !strings.EqualFold(title, c.Head) {
			name += " (" + title + ")"
		}
		for i, line := range wrap(name+": "+meaning, m.width-6) {
			if i > 0 {
				line = "    " + line
			}
			p.items = append(p.items, line)
		}
	}
	m.panel = p
}

// allKeys lists all keys, each of which can be chosen here too.
func (m *model) allKeys() {
	p := &panel{title: "Keys"}
	var at []int
	for i := range keys {
		if k := &keys[i]; k.isOffered(m) {
			p.items, at = append(p.items, fmt.Sprintf("%-9s %s", k.shown, k.does)), append(at, i)
		}
	}
	p.items = append(
		p.items,
		"1 to 9    a page",
		"↑ ↓       lines, as Page up, Page down, Home and End",
		"← →       columns",
	)
	p.take = func(m *model, n int) tea.Cmd {
		if n < len(at) {
			return keys[at[n]].do(m)
		}
		return nil
	}
	m.panel = p
}

// wrap takes a text apart into lines of words.
func wrap(text string, width int) (lines []string) {
	line := ""
	for _, w := range strings.Fields(text) {
		if line != "" && len([]rune(line))+1+len([]rune(w)) > max(width, 20) {
			lines, line = append(lines, line), ""
		}
		if line != "" {
			line += " "
		}
		line += w
	}
	return append(lines, line)
}
