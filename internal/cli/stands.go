package cli

import (
	"fmt"
	"io"
	"strings"
	"time"

	"vinescale/core/explain"
)

// printStands lists how tenants stand against each quota, and below it for how long single minutes were above it, and
// who was hurt by it.
func printStands(w io.Writer, of string, b *explain.Balance) error {
	t := newTable(w)
	n := 0
	for i := range b.Stands {
		s := &b.Stands[i]
		if of != "all" && of != s.Resource {
			continue
		}
		if n++; n == 1 {
			fmt.Fprintln(w)
			t.row(cell{"Against quotas", false}, cell{"of", false}, cell{"on", false}, cell{"quota", true},
				cell{"used", true}, cell{"held", true}, cell{"left", true}, cell{"now", true}, cell{"95 %", true},
				cell{"highest", true}, cell{"", false})
		}
		u := standUnit(s)
		text := func(v *float64) cell {
			if v == nil {
				return cell{"–", true}
			}
			return cell{u.text(*v), true}
		}
		quota := text(s.Ceiling)
		if s.Ceiling == nil && s.Soft != nil {
			quota = cell{"watched " + u.text(*s.Soft), true}
		}
		if s.Basis != "used" {
			quota.text = s.Basis + " " + quota.text
		}
		what := s.Resource
		if s.Unit != "count" {
			what += ", " + u.name
		}
		t.row(cell{s.Tenant, false}, cell{what, false}, cell{scopeText(s.Scope, s.On), false}, quota, text(s.Used),
			text(s.Held), text(s.Headroom), text(s.Now), text(s.P95), text(s.Peak), cell{standNote(s), false})
	}
	if n == 0 {
		return nil
	}
	if err := t.flush(); err != nil {
		return err
	}
	for i := range b.Stands {
		if s := &b.Stands[i]; of == "all" || of == s.Resource {
			printExceeded(w, s)
		}
	}
	return nil
}

// standUnit is one unit for all figures of a line.
func standUnit(s *explain.Stand) unit {
	if s.Unit == "count" {
		return unit{"", 1, 0}
	}
	for _, v := range []*float64{s.Ceiling, s.Soft, s.Used} {
		if v != nil && *v > 0 {
			return pick(meanUnits(entryOf(s.Resource)), *v)
		}
	}
	return meanUnits(entryOf(s.Resource))[0]
}

// standNote says in a word or two how a tenant stands.
func standNote(s *explain.Stand) string {
	var notes []string
	switch {
	case s.Over:
		notes = append(notes, "over")
	case s.SoftOver:
		notes = append(notes, "over soft mark")
	}
	if e := s.Exceeded; e != nil && e.Times > 0 && !s.Over {
		notes = append(notes, "exceeded")
	}
	if len(s.Hurt) > 0 {
		notes = append(notes, "hurt others")
	}
	if s.Unheld > 0 && s.Basis != "used" {
		notes = append(notes, fmt.Sprintf("%d without a limit", s.Unheld))
	}
	return strings.Join(notes, ", ")
}

// printExceeded says for how long a quota was exceeded, and who waited meanwhile; nothing where it was not.
func printExceeded(w io.Writer, s *explain.Stand) {
	e := s.Exceeded
	if e == nil || e.Times == 0 {
		return
	}
	mark := "its quota"
	if s.Ceiling == nil {
		mark = "its soft mark"
	}
	text := fmt.Sprintf(
		"*  %s was above %s of %s on %s for %s, %s, from %s until %s",
		visible(s.Tenant),
		mark,
		s.Resource,
		scopeText(s.Scope, s.On),
		explain.Lasted(time.Duration(e.Minutes)*time.Minute),
		timesText(e.Times),
		momentText(e.First),
		momentText(e.Last),
	)
	if e.Unsure > 0 {
		text += fmt.Sprintf("; of %s more it is not known by the minute",
			explain.Lasted(time.Duration(e.Unsure)*time.Minute))
	}
	switch {
	case s.HurtBy == "":
		text += "; whether that hurt anybody is not told for " + s.Resource
	case len(s.Hurt) == 0:
		text += "; nobody else waited for long meanwhile"
	default:
		h := &s.Hurt[0]
		text += fmt.Sprintf("; in the longest of these %s waited %.0f s on %s", h.Whose(), h.Waited, h.Host)
		if more := len(s.Hurt) - 1; more > 0 {
			text += fmt.Sprintf(", and %d more", more)
		}
	}
	fmt.Fprintln(w, folded(text+"."))
}

func timesText(n int) string {
	switch n {
	case 1:
		return "once"
	case 2:
		return "twice"
	}
	return fmt.Sprintf("%d times", n)
}

// printAllowances lists how allowances stand in their windows.
func printAllowances(w io.Writer, of string, b *explain.Balance) error {
	t := newTable(w)
	n := 0
	var why []string
	for i := range b.Allowances {
		a := &b.Allowances[i]
		if of != "all" && of != a.Resource {
			continue
		}
		if n++; n == 1 {
			fmt.Fprintln(w)
			t.row(cell{"Allowances", false}, cell{"of", false}, cell{"on", false}, cell{"per", false},
				cell{"until", false}, cell{"allowed", true}, cell{"spent", true}, cell{"left", true},
				cell{"a day", true}, cell{"at the end", true}, cell{"between", true}, cell{"runs out", false})
		}
		u := allowanceUnit(a)
		text := func(v *float64) string {
			if v == nil {
				return "–"
			}
			return u.text(*v)
		}
		between, out := "", "no"
		if a.Low != nil && a.High != nil {
			between = text(a.Low) + "–" + text(a.High)
		}
		switch {
		case a.State == explain.AllowanceExhausted:
			out = "exhausted"
		case a.RunsOut != nil:
			out = momentText(a.RunsOut)
		case a.Early != nil:
			out = "perhaps " + momentText(a.Early)
		case a.State == explain.AllowanceUnknown || a.Expected == nil:
			out = "not known"
		case a.State == explain.AllowanceWatched:
			out = "no, but over soft mark"
		}
		if a.Reason != "" {
			why = append(why, fmt.Sprintf("–  %s, %s: %s.", visible(a.Tenant), a.Resource, visible(a.Reason)))
		}
		allowed := "watched"
		if a.Amount != nil {
			allowed = u.text(*a.Amount)
		}
		t.row(cell{a.Tenant, false}, cell{a.Resource + ", " + u.name, false}, cell{scopeText(a.Scope, a.On), false},
			cell{a.Window, false}, cell{shownAt(a.To, "01-02 15:04"), false}, cell{allowed, true},
			cell{text(a.Spent), true}, cell{text(a.Left), true}, cell{text(a.Burn), true}, cell{text(a.Expected), true},
			cell{between, true}, cell{out, false})
	}
	if n == 0 {
		return nil
	}
	if err := t.flush(); err != nil {
		return err
	}
	for _, text := range why {
		fmt.Fprintln(w, folded(text))
	}
	_, err := fmt.Fprintln(w, folded(b.Allowances[0].Method))
	return err
}

// allowanceUnit is one unit for all figures of an allowance's line.
func allowanceUnit(a *explain.AllowanceStand) unit {
	top := 0.0
	for _, v := range []*float64{a.Amount, a.Soft, a.Spent} {
		if v != nil {
			top = max(top, *v)
		}
	}
	switch a.Unit {
	case "bytes":
		return pick(amountUnits(), top)
	case "byte_hours":
		u := pick(bytesUnits(), top)
		return unit{u.name + "-hours", u.per, u.digits}
	case "kwh":
		return unit{"kWh", 1, 2}
	}
	u := unit{strings.Replace(a.Unit, "_", "-", 1), 1, 0}
	if top < 100 {
		u.digits = 2
	}
	return u
}

// printPromised lists where more was promised than there is, and what was promised on all hosts.
func printPromised(w io.Writer, of string, b *explain.Balance) error {
	t := newTable(w)
	n := 0
	for i := range b.Promised {
		c := &b.Promised[i]
		if of != "all" && of != c.Resource || c.Scope != "fleet" && !c.IsOver || c.Quotas == nil && c.Held == 0 {
			continue
		}
		if n++; n == 1 {
			fmt.Fprintln(w)
			t.row(cell{"Promised", false}, cell{"on", false}, cell{"there is", true}, cell{"by quotas", true},
				cell{"held", true}, cell{"", false})
		}
		u := pick(meanUnits(entryOf(c.Resource)), c.Capacity)
		quotas, note := "none set", ""
		if c.Quotas != nil {
			quotas = u.text(*c.Quotas)
		}
		if c.IsOver {
			note = "more than there is"
		}
		t.row(cell{c.Resource + ", " + u.name, false}, cell{scopeText(c.Scope, c.On), false},
			cell{u.text(c.Capacity), true}, cell{quotas, true}, cell{u.text(c.Held), true}, cell{note, false})
	}
	if n == 0 {
		return nil
	}
	return t.flush()
}
