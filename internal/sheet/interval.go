package sheet

import (
	"vinescale/core/account"
	"vinescale/core/amount"
)

// Namer tells what ids of an interval stand for; identify.Registry is one.
type Namer struct {
	Workload func(account.WorkloadID) account.Workload
	Program  func(int32) string
}

// Dimensions are what an interval's shares can be grouped by.
var Dimensions = []string{"workload", "user", "kind", "program"}

// FromInterval makes the sheet of one resource of an interval, with shares grouped by one of Dimensions.
func FromInterval(host string, iv *account.Interval, r amount.Resource, by string, names Namer) Ledger {
	l := Ledger{Host: host, From: iv.From.UTC(), To: iv.To.UTC()}
	l.Fill(r, StretchOf(iv, r), float64(iv.Ledgers[r].Shares))
	sums := map[string]*sum{}
	var order []string
	at := func(key string, proto Share) *sum {
		g := sums[key]
		if g == nil {
			g = &sum{share: proto}
			sums[key] = g
			order = append(order, key)
		}
		return g
	}
	for i := range iv.Usages {
		u := &iv.Usages[i]
		w := names.Workload(u.Workload)
		peak := r.PeakMean(float64(u.Peak[r]))
		switch by {
		case "user":
			at(w.Owner, Share{Name: w.Owner, Owner: w.Owner}).add(u.Units[r], u.Source[r], 1)
		case "kind":
			at(w.Kind.String(), Share{Name: w.Kind.String(), Kind: w.Kind.String()}).add(u.Units[r], u.Source[r], 1)
		case "program":
			for _, p := range u.Programs {
				name := names.Program(p.Program)
				at(name, Share{Name: name}).add(p.Units[r], programSource(r, u.Source[r], p.Program), int(p.Procs))
			}
		default:
			g := at(w.Key, Share{Name: w.Name, Kind: w.Kind.String(), Owner: w.Owner})
			g.add(u.Units[r], u.Source[r], 1)
			g.share.Peak = &peak
		}
	}
	l.Shares = make([]Share, 0, len(order))
	for _, key := range order {
		l.Shares = append(l.Shares, sums[key].close(r, iv.ElapsedMillis))
	}
	l.Sort("")
	return l
}

// programSource is summed for a program, whatever its workload's total is; the rest no program explains is as good as
// that total. Of some resources the kernel keeps
// no counters by process.
func programSource(r amount.Resource, s amount.Source, program int32) amount.Source {
	switch {
	case program == account.NoProgram || s == amount.Unavailable:
		return s
	case !r.Entry().ByProcess:
		return amount.Unavailable
	}
	return amount.Summed
}

type sum struct {
	share  Share
	units  int64
	source amount.Source
	known  bool
}

func (g *sum) add(units int64, source amount.Source, parts int) {
	g.share.Parts += parts
	if source == amount.Unavailable {
		g.share.Missing += parts
		return
	}
	if g.known {
		source = g.source.Weaker(source)
	}
	g.units, g.source, g.known = g.units+units, source, true
}

func (g *sum) close(r amount.Resource, elapsed int64) Share {
	s := g.share
	if !g.known {
		s.Source, s.Peak, s.Reason = amount.Unavailable.String(), nil, r.Entry().NeverOf
		return s
	}
	if s.Missing > 0 {
		s.Reason = r.Entry().NeverOf
	}
	a, m := r.Amount(float64(g.units), elapsed), r.Mean(float64(g.units), elapsed)
	s.Amount, s.Mean, s.Source = &a, &m, g.source.String()
	return s
}
