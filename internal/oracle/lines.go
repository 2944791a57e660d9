package oracle

import (
	"math/big"
	"slices"
	"time"

	"vinescale/core/account"
	"vinescale/core/leaf"
	"vinescale/core/question"
)

// Lines adds up the host-wide lines of a question's measures, for each step of it or over the whole span.
//
// Of what each host told it says how much it lacks in all, as one gap.
func (b *Book) Lines(q question.Question) map[time.Time]question.Stretch {
	type hostSum struct {
		elapsed  int64
		cpus     int
		from, to time.Time
		units    [][5]*big.Int
		reasons  [][5]string
		caveats  map[string]int64
	}
	stretches := map[time.Time]map[int32]*hostSum{}
	for k := range b.Minutes {
		m := &b.Minutes[k]
		if m.Start.Before(q.Scope.Span.From) || !m.Start.Before(q.Scope.Span.To) || !in(q.Scope.Hosts, m.Host) {
			continue
		}
		at := time.Time{}
		if q.Step > 0 {
			at = stretch(m.Start, q.Step)
		}
		if stretches[at] == nil {
			stretches[at] = map[int32]*hostSum{}
		}
		h := stretches[at][m.Host]
		if h == nil {
			h = &hostSum{from: m.Start, caveats: map[string]int64{}, units: make([][5]*big.Int, len(q.Measures)),
				reasons: make([][5]string, len(q.Measures))}
			for i := range h.units {
				for l := range h.units[i] {
					h.units[i][l] = new(big.Int)
				}
			}
			stretches[at][m.Host] = h
		}
		h.elapsed += m.Interval.ElapsedMillis
		for i, what := range m.Interval.GetDetail().GetCaveat() {
			h.caveats[what] += m.Interval.Detail.CaveatAmount[i]
		}
		h.cpus = max(h.cpus, int(m.Interval.Cpus))
		if m.Start.Before(h.from) {
			h.from = m.Start
		}
		if end := m.Start.Add(time.Duration(m.Interval.ElapsedMillis) * time.Millisecond); end.After(h.to) {
			h.to = end
		}
		for i, of := range q.Measures {
			ledger := m.Interval.LedgerOf(of)
			for l, name := range []string{"capacity", "used", "idle", "kernel", "steal"} {
				line := ledger.LineOf(name)
				why := line.GetUnavailable()
				if ledger == nil {
					why = account.NotRead
				}
				h.units[i][l].Add(h.units[i][l], big.NewInt(line.GetUnits()))
				if why != "" {
					h.reasons[i][l] = max(h.reasons[i][l], why+" ("+b.Hosts[m.Host]+")")
				}
			}
		}
	}
	answer := map[time.Time]question.Stretch{}
	for at, hosts := range stretches {
		s := question.Stretch{Start: at, Hosts: len(hosts), Of: make([]question.Lines, len(q.Measures))}
		for id, h := range hosts {
			if q.Step == 0 {
				lacking := h.to.Sub(h.from) - time.Duration(h.elapsed)*time.Millisecond
				s.Told = append(s.Told, question.HostTold{Host: id, From: h.from, To: h.to,
					Gaps: []question.Gap{{From: h.from, To: h.to, Lacking: lacking}}})
			}
			for what, n := range h.caveats {
				if s.Caveats == nil {
					s.Caveats = map[string]question.Caveat{}
				}
				c := s.Caveats[what]
				c.Amount, c.Hosts = c.Amount+n, append(c.Hosts, b.Hosts[id])
				slices.Sort(c.Hosts)
				s.Caveats[what] = c
			}
			s.ElapsedMillis = max(s.ElapsedMillis, h.elapsed)
			s.CPUs += h.cpus
			if s.From.IsZero() || h.from.Before(s.From) {
				s.From = h.from
			}
			if h.to.After(s.To) {
				s.To = h.to
			}
		}
		slices.SortFunc(s.Told, func(a, b question.HostTold) int { return int(a.Host) - int(b.Host) })
		for i, m := range q.Measures {
			have := 0
			for _, h := range hosts {
				if h.reasons[i][leaf.UsedLine] == "" {
					have++
				}
			}
			out := func(h *hostSum) bool {
				return m.Entry().IsOptional && have > 0 && h.reasons[i][leaf.UsedLine] != ""
			}
			for id, h := range hosts {
				if out(h) {
					s.Of[i].Without = append(s.Of[i].Without, b.Hosts[id])
				}
			}
			slices.Sort(s.Of[i].Without)
			for l, line := range s.Of[i].Each() {
				sum := new(big.Int)
				for _, h := range hosts {
					if out(h) {
						continue
					}
					sum.Add(sum, h.units[i][l])
					line.Line.Reason = max(line.Line.Reason, h.reasons[i][l])
				}
				if line.Line.Reason == "" {
					line.Line.Units, line.Line.Exact = nearest(sum), exact(sum)
				}
			}
		}
		answer[at] = s
	}
	return answer
}
