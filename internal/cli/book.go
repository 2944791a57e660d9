package cli

import (
	"fmt"
	"io"
	"math"
	"slices"
	"strings"
	"time"

	"vinescale/core/explain"
	"vinescale/internal/sheet"
)

// writeBook prints a ledger as a page of the account book: a head, the shares, the lines that balance them, the sum
// under a rule.
func writeBook(w io.Writer, l *sheet.Ledger, by string, first int) error {
	l.Keep(first)
	u := unitFor(l)
	whole, scale := l.Capacity, "the capacity"
	if whole == nil {
		whole, scale = l.Used, "what is in use"
	}
	until := explain.NothingRecorded
	if l.CoveredTo != nil {
		until = fmt.Sprintf("over %s until %s      %s      source: %s", seconds(l.ElapsedS),
			untilText(l.CoveredTo.Local()), cpuCount(l.CPUs), sources(l.Shares))
	}
	fmt.Fprintf(w, "%s %s\n%s\n", visible(l.Host), until, missedLines(&l.Missed))
	withTenant := by == "workload" && anyTenant(l.Shares)
	t := newTable(w)
	head := []cell{{entryOf(l.Resource).Title + " by " + visible(by), false}}
	switch by {
	case "workload":
		head = append(head, cell{"kind", false}, cell{"owner", false})
	case "family":
		head = append(head, cell{"of", false}, cell{"owner", false})
	}
	if withTenant {
		head = append(head, cell{"tenant", false})
	}
	wholeText := ""
	if whole != nil {
		wholeText = "of " + u.text(l.Mean(*whole))
	}
	head = append(head, cell{u.name, true}, cell{wholeText, true}, cell{"source", false}, cell{"", false})
	t.row(head...)
	blank := make([]cell, len(head)-5)
	var notes []string
	line := func(name string, mid []cell, amount *float64, source string, reason string) {
		cells := append([]cell{{name, false}}, mid...)
		if amount == nil {
			cells = append(cells, cell{"–", true}, cell{"", true}, cell{source, false}, cell{"", false})
			of := ""
			if source == "" { // a line of the ledger, not a share
				of = " (" + name + ")"
			}
			if reason != "" && !strings.Contains(strings.Join(notes, "\n"), reason) {
				notes = append(notes, fmt.Sprintf("–  not available%s: %s.\n", of, visible(reason)))
			}
		} else {
			m := l.Mean(*amount)
			percent, bar := "", ""
			if whole != nil && *whole > 0 {
				part := *amount / *whole
				percent, bar = percentText(part), barText(part)
			}
			cells = append(cells, cell{u.text(m), true}, cell{percent, true}, cell{source, false}, cell{bar, false})
		}
		t.row(cells...)
	}
	for _, s := range l.Shares {
		if s.Amount != nil && s.Missing > 0 {
			s.Source += fmt.Sprintf(" (%d of %d not)", s.Missing, s.Parts)
		}
		var mid []cell
		if by == "workload" {
			mid = append(mid, cell{s.Kind, false}, cell{s.Owner, false})
		} else if by == "family" {
			mid = append(mid, cell{s.Workload, false}, cell{s.Owner, false})
		}
		if withTenant {
			mid = append(mid, cell{s.Tenant, false})
		}
		line(s.Name, mid, s.Amount, s.Source, s.Reason)
	}
	if l.LeftOut > 0 {
		by := &l.LeftOutBy
		if known := slices.ContainsFunc(l.Shares, func(s sheet.Share) bool { return s.Amount != nil }); !known {
			by = nil
		}
		line(fmt.Sprintf("  %d more", l.LeftOut), blank, by, "", "")
	}
	for _, x := range l.Warming {
		if by == "workload" {
			mid := []cell{{x.Kind, false}, {x.Owner, false}}
			if withTenant {
				mid = append(mid, cell{x.Tenant, false})
			}
			t.row(append(append([]cell{{x.Name, false}}, mid...), cell{"–", true}, cell{"", true},
				cell{sheet.FirstReading(time.Duration(x.DueInSeconds * float64(time.Second))), false})...)
		}
	}
	if n := len(l.Warming); n > 0 && by != "workload" {
		notes = append(notes, fmt.Sprintf("%d workloads were just seen: %s.\n", n,
			sheet.FirstReading(time.Duration(l.Warming[0].DueInSeconds*float64(time.Second)))))
	}
	notes = append(notes, noteLine(l.Note), withoutLine(l.Without))
	last := fmt.Sprintf("A bar's full width, %d characters, is %s.", barWidth, scale)
	if l.Notes["capacity"] != sheet.NoLedger {
		line("kernel", blank, l.Kernel, "", l.Notes["kernel"])
		if l.Steal != nil && *l.Steal > 0 {
			line("steal", blank, l.Steal, "", "")
		}
		line("idle", blank, l.Idle, "", l.Notes["idle"])
		line("residual", blank, l.Residual, "", l.Notes["residual"])
		t.rule()
		line("capacity", blank, l.Capacity, "", l.Notes["capacity"])
		if l.Capacity == nil && l.Used != nil {
			line("in use", blank, l.Used, "", "")
		}
	} else { // none of these lines can be told
		last = strings.ToUpper(sheet.NoLedger[:1]) + sheet.NoLedger[1:] + "."
	}
	if err := t.flush(); err != nil {
		return err
	}
	if l.Negative != "" {
		notes = append(notes, folded("The residual is below zero: "+l.Negative+".")+"\n")
	}
	_, err := fmt.Fprintf(w, "\n%s%s\n", strings.Join(notes, ""), last)
	return err
}

// withoutLine names hosts that have none of a resource; nothing for none.
func withoutLine(hosts []string) string {
	if len(hosts) == 0 {
		return ""
	}
	more := ""
	if n := len(hosts) - partsNamed; n > 1 {
		hosts, more = hosts[:partsNamed], fmt.Sprintf(" and %d more", n)
	}
	tell := "tell"
	if len(hosts) == 1 && more == "" {
		tell = "tells"
	}
	return folded("Without "+strings.Join(hosts, ", ")+more+", which "+tell+" of none.") + "\n"
}

// noteLine is a note as a line of its own; nothing where there is none.
func noteLine(note string) string {
	if note == "" {
		return ""
	}
	return strings.ToUpper(note[:1]) + note[1:] + ".\n"
}

// percentText writes a part as a percentage; one that rounds to nothing has no sign.
func percentText(part float64) string { return unit{"%", 0.01, 1}.text(part) + " %" }

// untilText is a time of today, or a date and time.
func untilText(t time.Time) string {
	if t.Local().Format(time.DateOnly) == time.Now().Format(time.DateOnly) {
		return shownAt(t, time.TimeOnly)
	}
	return shownAt(t, time.DateTime)
}

func anyTenant(shares []sheet.Share) bool {
	for _, s := range shares {
		if s.Tenant != "" {
			return true
		}
	}
	return false
}

// sources names the sources of the shares that have a figure.
func sources(shares []sheet.Share) string {
	var names []string
	for _, s := range shares {
		if s.Amount == nil || *s.Amount == 0 {
			continue
		}
		if !strings.Contains(strings.Join(names, " "), s.Source) {
			names = append(names, s.Source)
		}
	}
	if len(names) == 0 {
		return "none had any"
	}
	return strings.Join(names, ", ")
}

func seconds(s float64) string {
	switch {
	case s < 120:
		return fmt.Sprintf("%.2f s", s)
	case s < 7200:
		return fmt.Sprintf("%.0f min", s/60)
	default:
		return fmt.Sprintf("%.1f h", s/3600)
	}
}

func cpuCount(n int) string {
	if n == 1 {
		return "1 CPU"
	}
	return fmt.Sprintf("%d CPUs", n)
}

const barWidth = 24

// barText draws a part of a whole in eighths of a character, from zero; a part above none shows at least the thinnest
// mark.
func barText(part float64) string {
	if part <= 0 || math.IsNaN(part) {
		return ""
	}
	eighths := max(int(math.Round(min(part, 1)*barWidth*8)), 1)
	s := strings.Repeat("█", eighths/8)
	if rest := eighths % 8; rest > 0 {
		s += string([]rune(" ▏▎▍▌▋▊▉")[rest])
	}
	return s
}

// unitFor picks the unit that suits the ledger's largest share.
func unitFor(l *sheet.Ledger) unit {
	top := 0.0
	for _, v := range []*float64{l.Used, l.Kernel, l.Residual} {
		if v != nil {
			top = max(top, l.Mean(*v))
		}
	}
	for _, s := range l.Shares {
		if s.Mean != nil {
			top = max(top, *s.Mean)
		}
	}
	if isCPU(entryOf(l.Resource)) {
		return cpuUnitOf(l.Host, l.CPUs)
	}
	return pick(meanUnits(entryOf(l.Resource)), top)
}
