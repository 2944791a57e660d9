package screen

import (
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/mattn/go-runewidth"
)

// Attributes of text. A terminal without them loses nothing: marks say the same.
const (
	bold    = "\x1b[1m"
	reverse = "\x1b[7m"
	plain   = "\x1b[0m"
)

// widest is how wide a column of texts is drawn at most, the first one apart.
const widest = 32

// canvas is a screen that is being drawn, line by line.
type canvas struct {
	m     *model
	lines []string
}

func (c *canvas) y() int { return len(c.lines) }

func (c *canvas) line(text, attribute string) {
	text = runewidth.Truncate(text, c.m.width, "…")
	if attribute != "" {
		text = attribute + text + plain
	}
	c.lines = append(c.lines, text)
}

// press makes a part of the line that comes next one that can be pressed.
func (c *canvas) press(from, width int, do func() tea.Cmd) {
	c.m.zones = append(c.m.zones, zone{c.y(), from, from + width, do})
}

func (m *model) View() tea.View {
	m.zones = nil
	c := &canvas{m: m}
	c.title()
	c.pages()
	s := m.sheet()
	for _, wrong := range []string{m.mistake, m.trouble} {
		if wrong != "" {
			c.line("! "+wrong, bold)
		}
	}
	if s != nil && m.panel == nil {
		c.head(s)
	}
	foot := m.foot()
	m.body = max(1, m.height-c.y()-1-len(foot.lines))
	switch {
	case m.panel != nil:
		c.panel(m.panel)
	case s == nil:
		c.line("", "")
		c.line("The first reading is under way: there is no usage before a second one.", "")
	default:
		c.table(s)
	}
	for c.y() < m.height-len(foot.lines) {
		c.line("", "")
	}
	c.lines = c.lines[:max(0, m.height-len(foot.lines))]
	for _, z := range foot.m.zones {
		z.y += c.y()
		m.zones = append(m.zones, z)
	}
	c.lines = append(c.lines, foot.lines...)
	v := tea.NewView(strings.Join(c.lines, "\n"))
	v.AltScreen, v.MouseMode = true, tea.MouseModeCellMotion
	v.WindowTitle = "Vine Scale: " + m.Source.Title()
	return v
}

// head draws what stands above the table, as far as there is room.
func (c *canvas) head(s *Sheet) {
	room := c.m.height / 3
	for _, line := range s.Head {
		for _, part := range wrap(line, c.m.width) {
			if room > 0 {
				c.line(part, "")
			}
			room--
		}
	}
}

// title says whose figures they are, of when, and what looking costs.
func (c *canvas) title() {
	m := c.m
	when, cost := "reading", ""
	if s := m.sheet(); s != nil {
		cost = s.Cost
		when = s.At.Local().Format(time.TimeOnly)
		if m.isHeld {
			list := m.past[m.want()]
			when = fmt.Sprintf("held at %s, %s back", when, list[len(list)-1].At.Sub(s.At).Round(time.Second))
		}
	}
	left := "Vine Scale · " + m.Source.Title()
	right := when + " · every " + paceText(m.Pace)
	if cost != "" {
		right += " · " + cost
	}
	left = runewidth.Truncate(left, max(10, m.width-runewidth.StringWidth(right)-2), "…")
	space := m.width - runewidth.StringWidth(left) - runewidth.StringWidth(right)
	c.line(left+strings.Repeat(" ", max(2, space))+right, bold)
}

// pages lists the pages, the one that is looked at in brackets, and what was opened on it.
func (c *canvas) pages() {
	text := ""
	for i, p := range c.m.Source.Pages() {
		name := " " + p.Name + " "
		if i == c.m.page {
			name = "[" + p.Name + "]"
		}
		c.press(runewidth.StringWidth(text), len(name), func() tea.Cmd { return c.m.goTo(i) })
		text += name
	}
	c.line(text, "")
	if len(c.m.path) > 0 {
		names := []string{}
		for _, p := range c.m.path {
			names = append(names, p.Name)
		}
		c.line("within "+strings.Join(names, " › "), bold)
	}
	if c.m.command != nil {
		c.line("do: vinescale "+*c.m.command+"▏", bold)
	}
	if v := c.m.view(); c.m.isFind || v.find != "" {
		cursor := ""
		if c.m.isFind {
			cursor = "▏"
		}
		c.line("find: "+v.find+cursor, "")
	}
}

// shown are the columns that are shown, by their places.
func (m *model) shown() (at []int) {
	s, v := m.sheet(), m.view()
	if s == nil {
		return nil
	}
	// Another grouping of a page may have none of the columns that were chosen: it is seen as usual.
	isChosen := slices.ContainsFunc(s.Columns, func(c Column) bool { return slices.Contains(v.columns, c.Name) })
	for i, c := range s.Columns {
		if !isChosen && !c.Extra || slices.Contains(v.columns, c.Name) {
			at = append(at, i)
		}
	}
	return at
}

func (c *canvas) table(s *Sheet) {
	m, v := c.m, c.m.view()
	rows := m.rows()
	columns := m.shown()
	if len(columns) == 0 {
		return
	}
	v.shift = min(v.shift, max(0, len(columns)-2))
	columns = append(columns[:1:1], columns[1+v.shift:]...)
	widths := make([]int, len(columns))
	for i, at := range columns {
		widths[i] = runewidth.StringWidth(s.Columns[at].Head)
		if s.Columns[at].Name == v.order {
			widths[i] += 2 // for the mark of the order
		}
		for _, r := range rows {
			widths[i] = max(widths[i], runewidth.StringWidth(r.Cells[at].Text))
		}
		if widths[i] > widest && !s.Columns[at].Right {
			widths[i] = widest
		}
	}
	fit, used := 0, 2
	for fit < len(columns) && (fit == 0 || used+widths[fit] <= m.width) {
		used += widths[fit] + 2
		fit++
	}
	if fit == len(columns) && fit > 0 && !s.Columns[columns[fit-1]].Right { // the last has all that is left
		for _, r := range rows {
			widths[fit-1] = max(widths[fit-1], runewidth.StringWidth(r.Cells[columns[fit-1]].Text))
		}
		widths[fit-1] = min(widths[fit-1], widths[fit-1]+max(0, m.width-used))
	}
	c.heads(s, columns[:fit], widths, len(columns)-fit)
	marked, of := m.marked(rows), m.want().Of
	room := max(1, m.body)
	first := min(max(v.firstShown[of], marked-room+1), marked)
	first = max(0, min(first, len(rows)-room))
	v.firstShown[of] = first
	for i := first; i < min(first+room, len(rows)); i++ {
		r := rows[i]
		text, attribute := "  ", ""
		if i == marked {
			text, attribute = "▸ ", reverse
		}
		for k, at := range columns[:fit] {
			text += fitted(r.Cells[at].Text, widths[k], s.Columns[at].Right) + "  "
		}
		c.press(0, m.width, func() tea.Cmd {
			if rows[m.marked(rows)].Key == r.Key {
				return m.open()
			}
			m.view().lineOf[of] = r.Key
			return nil
		})
		if text = strings.TrimRight(text, " "); i == marked {
			text = fitted(text, m.width, false)
		}
		c.line(text, attribute)
	}
	if len(rows) == 0 {
		c.line("  Nothing to list.", "")
	}
}

// heads draws the heads of columns, which order the lines when pressed.
func (c *canvas) heads(s *Sheet, columns []int, widths []int, left int) {
	v := c.m.view()
	text := "  "
	for k, at := range columns {
		x := s.Columns[at]
		head := x.Head
		if x.Name == v.order {
			head += map[bool]string{true: " ↑", false: " ↓"}[v.isUpward]
		}
		c.press(runewidth.StringWidth(text), widths[k], func() tea.Cmd { c.m.orderBy(x.Name); return nil })
		text += fitted(head, widths[k], x.Right) + "  "
	}
	text = strings.TrimRight(text, " ")
	if left > 0 && runewidth.StringWidth(text)+6 < c.m.width {
		text += fmt.Sprintf("  +%d →", left)
	}
	c.line(text, bold)
}

func fitted(text string, width int, right bool) string {
	text = runewidth.Truncate(text, width, "…")
	space := strings.Repeat(" ", width-runewidth.StringWidth(text))
	if right {
		return space + text
	}
	return text + space
}

// panel draws things to choose from.
func (c *canvas) panel(p *panel) {
	c.line("", "")
	c.line(p.title, bold)
	room := max(1, c.m.body-1)
	first := max(0, min(p.at-room/2, len(p.items)-room))
	for i := first; i < min(first+room, len(p.items)); i++ {
		text, attribute := "  ", ""
		if i == p.at && (p.take != nil || p.chosen != nil) {
			text, attribute = "▸ ", reverse
		}
		if p.chosen != nil {
			text += map[bool]string{true: "[x] ", false: "[ ] "}[p.chosen[i]]
		}
		c.press(0, c.m.width, func() tea.Cmd {
			p.at = i
			if p.chosen != nil {
				p.chosen[i] = !p.chosen[i]
				return nil
			}
			return p.press(c.m, "enter")
		})
		c.line(text+p.items[i], attribute)
	}
}

// foot is what stands below: a note, and the keys with what they do.
func (m *model) foot() *canvas {
	f := &canvas{m: &model{width: m.width}}
	s := m.sheet()
	if rows := m.rows(); s != nil && m.panel == nil {
		text := fmt.Sprintf("%d of %d", min(m.marked(rows)+1, len(rows)), len(rows))
		if n := len(s.Rows) - len(rows); n > 0 {
			text += fmt.Sprintf(", %d more do not match", n)
		}
		if s.Note != "" {
			text += " · " + s.Note
		}
		f.line(text, "")
	}
	type shown struct {
		text string
		do   func() tea.Cmd
	}
	var words []shown
	send := func(name string) func() tea.Cmd { return func() tea.Cmd { return m.panel.press(m, name) } }
	switch {
	case m.command != nil:
		words = []shown{{"Enter:do it, after it was shown", nil}, {"Esc:drop", nil}}
	case m.isFind:
		words = []shown{{"Enter:keep", nil}, {"Esc:drop", nil}}
	case m.panel != nil && m.panel.chosen != nil:
		words = []shown{{"↑↓:move", nil}, {"Space:in or out", send("space")}, {"Enter:show", send("enter")},
			{"Esc:back", send("esc")}}
	case m.panel != nil && m.panel.take != nil:
		words = []shown{{"↑↓:move", nil}, {"Enter:choose", send("enter")}, {"Esc:back", send("esc")}}
	case m.panel != nil:
		words = []shown{{"↑↓:move", nil}, {"Esc:back", send("esc")}}
	default:
		for i := range keys {
			if k := &keys[i]; k.isOffered(m) {
				does := k.does
				if k.name == "h" && m.isHeld {
					does = "go on"
				}
				words = append(words, shown{k.shown + ":" + does, func() tea.Cmd { return k.do(m) }})
			}
		}
		words = append([]shown{{helpKey.shown + ":" + helpKey.does, func() tea.Cmd { return helpKey.do(m) }}}, words...)
		words = append(words, shown{"←→:columns", nil}, shown{"↑↓:lines", nil})
	}
	text := ""
	for _, w := range words {
		n := runewidth.StringWidth(w.text)
		if len(f.lines) > max(1, m.height/6) {
			break
		}
		if text != "" && runewidth.StringWidth(text)+n > m.width {
			f.line(strings.TrimRight(text, " "), "")
			text = ""
		}
		if w.do != nil {
			f.press(runewidth.StringWidth(text), n, w.do)
		}
		text += w.text + "  "
	}
	if len(f.lines) <= max(1, m.height/6) {
		f.line(strings.TrimRight(text, " "), "")
	}
	return f
}
