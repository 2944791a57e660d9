// Package sheet holds the one shape in which a ledger and its shares leave the program, for `weigh`, the service's API
// and its client alike. Field names are stable and carry their unit, or have it stated in a field beside them.
//
// It imports core/... only. Start with Ledger.
package sheet

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/question"
)

// Ledger is one resource of one host (or of several, added) over an interval.
//
// used = sum of shares + kernel + steal + residual, and capacity = used + idle where capacity is known. Null is
// "not available", and Notes says why by field name.
type Ledger struct {
	Host        string     `json:"host" doc:"The host, or a word for several."`
	From        time.Time  `json:"from"`
	To          time.Time  `json:"to"`
	CoveredFrom *time.Time `json:"covered_from" doc:"Begin of the first interval; null for none."`
	CoveredTo   *time.Time `json:"covered_to" doc:"End of the last."`
	ElapsedS    float64    `json:"elapsed_seconds" doc:"Covered by readings."`

	explain.Missed

	Resource  string            `json:"resource" doc:"Or another measure, which has shares but no host-wide lines."`
	Unit      string            `json:"unit" doc:"Of amounts; a level's is its time-weighted mean."`
	MeanUnit  string            `json:"mean_unit" doc:"Unit of means and peaks: cores, bytes, or bytes_per_second."`
	CPUs      int               `json:"cpus" doc:"Logical CPUs."`
	Capacity  *float64          `json:"capacity"`
	Used      *float64          `json:"used" doc:"In use by the host's own count."`
	Idle      *float64          `json:"idle"`
	Kernel    *float64          `json:"kernel"`
	Steal     *float64          `json:"steal" doc:"CPU time taken by the hypervisor."`
	Residual  *float64          `json:"residual" doc:"Used and charged to nobody; signed."`
	Shares    []Share           `json:"shares"`
	LeftOut   int               `json:"left_out" doc:"Shares that the limit left out."`
	LeftOutBy float64           `json:"left_out_amount"`
	Warming   []Warming         `json:"warming,omitempty" doc:"Workloads that have no usage yet."`
	Notes     map[string]string `json:"notes,omitempty" doc:"Why a field is null, by field name."`
	Note      string            `json:"note,omitempty" doc:"Where sums stand for intervals no longer kept."`
	Negative  string            `json:"residual_negative,omitempty" doc:"Why the residual may be below 0."`
	Without   []string          `json:"without,omitempty" doc:"Hosts that have none of it, and are not in it."`
	Means     []account.Ability `json:"means,omitempty" doc:"Of one host: how it counts this, and what it can miss."`
	Next      string            `json:"next,omitempty" doc:"Cursor of the next page; left out on the last."`
}

// Warming is a workload that was seen for the first time: its first usage is due.
type Warming struct {
	WorkloadID   int64     `json:"workload_id"`
	Name         string    `json:"name"`
	Kind         string    `json:"kind"`
	Owner        string    `json:"owner"`
	Tenant       string    `json:"tenant"`
	Host         string    `json:"host"`
	DueAt        time.Time `json:"due_at"`
	DueInSeconds float64   `json:"due_in_seconds"`
}

// Share is the part one workload, user, program, kind, tenant or host had.
type Share struct {
	Name   string `json:"name"`
	Kind   string `json:"kind" doc:"Of a workload; empty for a group of several kinds."`
	Owner  string `json:"owner" doc:"Of a workload or user; empty when not known, or of several."`
	Tenant string `json:"tenant,omitempty"`
	Host   string `json:"host,omitempty"`

	WorkloadID int64  `json:"workload_id,omitempty" doc:"Of a workload, to ask about it."`
	Workload   string `json:"workload,omitempty" doc:"That a family is of."`

	Amount  *float64 `json:"amount"`
	Mean    *float64 `json:"mean"`
	Peak    *float64 `json:"peak,omitempty" doc:"Highest mean of one tick for a workload, of one minute for a group."`
	Source  string   `json:"source" enum:"counted,summed,split,reported,unavailable"`
	Parts   int      `json:"parts" doc:"Workloads (processes, for a program) in this share."`
	Missing int      `json:"missing" doc:"Of these, how many have no figure: the amount lacks theirs."`
	Reason  string   `json:"reason,omitempty" doc:"Why the amount is null, or lacks some."`

	First bool `json:"-"` // comes before all others when sorted by amount: what is unassigned
}

// StretchOf takes the host-wide lines of a resource from an interval.
func StretchOf(iv *account.Interval, r amount.Resource) *question.Stretch {
	l := &iv.Ledgers[r]
	line := func(l account.Line) question.Line { return question.Line{Units: float64(l.Units), Reason: l.Reason} }
	caveats := map[string]question.Caveat{}
	for c, n := range iv.Detail.Caveats {
		if n > 0 {
			caveats[account.Caveat(c).String()] = question.Caveat{Amount: n}
		}
	}
	return &question.Stretch{
		ElapsedMillis: iv.ElapsedMillis, CPUs: iv.CPUCount, Hosts: 1, From: iv.From.UTC(), To: iv.To.UTC(),
		Caveats: caveats,
		Of: []question.Lines{{Capacity: line(l.Capacity), Used: line(l.Used), Idle: line(l.Idle),
			Kernel: line(l.Kernel), Steal: line(l.Steal)}},
	}
}

// NoLedger is why a measure that is no resource has no host-wide lines.
const NoLedger = "this measure has no ledger: what a host has of it is not counted"

// Fill sets the units of a measure and the ledger's host-wide lines, which are those of the stretch's first measure,
// with the residual that the shares leave. A measure that is no resource has no lines; nor has a span of which nothing
// was recorded.
func (l *Ledger) Fill(m amount.Measure, stretch *question.Stretch, shares float64) {
	l.Resource, l.Unit, l.MeanUnit = m.String(), m.Unit(), m.MeanUnit()
	l.ElapsedS, l.CPUs = float64(stretch.ElapsedMillis)/1e3, stretch.CPUs
	if !stretch.To.IsZero() {
		l.CoveredFrom, l.CoveredTo = &stretch.From, &stretch.To
	}
	l.Notes = map[string]string{}
	var lines question.Lines
	why := ""
	switch {
	case stretch.ElapsedMillis == 0:
		why = explain.NothingRecorded
	case !m.HasLedger():
		why = NoLedger
	default:
		lines = stretch.Of[0]
		l.Without = lines.Without
	}
	l.Caveats = explain.CaveatsOf(stretch.Caveats, m)
	residual := lines.Residual(shares)
	for _, x := range []struct {
		name string
		into **float64
		line question.Line
	}{
		{"capacity", &l.Capacity, lines.Capacity}, {"used", &l.Used, lines.Used}, {"idle", &l.Idle, lines.Idle},
		{"kernel", &l.Kernel, lines.Kernel}, {"steal", &l.Steal, lines.Steal}, {"residual", &l.Residual, residual},
	} {
		if reason := cmp.Or(why, x.line.Reason); reason != "" {
			l.Notes[x.name] = reason
			continue
		}
		v := m.Amount(x.line.Units, stretch.ElapsedMillis)
		*x.into = &v
	}
}

// Explain adds how hosts count what the ledger is of; of several, the reason of a negative residual alone. The stretch
// and shares are those it was filled with.
func (l *Ledger) Explain(m amount.Measure, stretch *question.Stretch, shares float64, hosts []*account.Inventory) {
	if len(hosts) == 1 {
		l.Means = explain.MeansOf(hosts[0], m.Entry().Of)
	}
	if m.HasLedger() && l.Residual != nil {
		l.Negative = explain.WhyNegative(m, &stretch.Of[0], shares, hosts)
	}
}

// Mean converts one of the ledger's amounts into its MeanUnit.
func (l *Ledger) Mean(of float64) float64 {
	m, err := amount.Parse(l.Resource)
	if err != nil || m.IsLevel() || m.Manner() == amount.Height || l.ElapsedS == 0 {
		return of
	}
	return of / l.ElapsedS
}

// Sort orders shares. Amounts and peaks go largest first, unavailable last, words
// by the alphabet; unassigned use comes first where shares are tenants' and sorted by amount.
func (l *Ledger) Sort(by string) {
	word, turned := strings.CutPrefix(by, "-")
	compare := func(a, b Share) int {
		switch word {
		case "name":
			return cmp.Compare(a.Name, b.Name)
		case "kind":
			return cmp.Compare(a.Kind, b.Kind)
		case "owner":
			return cmp.Compare(a.Owner, b.Owner)
		case "tenant":
			return cmp.Compare(a.Tenant, b.Tenant)
		case "host":
			return cmp.Compare(a.Host, b.Host)
		case "source":
			return cmp.Compare(a.Source, b.Source)
		case "parts":
			return cmp.Compare(b.Parts, a.Parts)
		case "peak":
			return cmp.Compare(orLess(b.Peak), orLess(a.Peak))
		}
		return cmp.Or(cmp.Compare(first(a), first(b)), cmp.Compare(orLess(b.Amount), orLess(a.Amount)))
	}
	slices.SortStableFunc(l.Shares, func(a, b Share) int {
		c := compare(a, b)
		if turned {
			c = -c
		}
		return cmp.Or(c, cmp.Compare(orLess(b.Amount), orLess(a.Amount)), cmp.Compare(a.Name, b.Name),
			cmp.Compare(a.Host, b.Host), cmp.Compare(a.WorkloadID, b.WorkloadID))
	})
}

// Keep keeps the first n shares (all when n is 0) and adds up what it leaves out.
func (l *Ledger) Keep(n int) {
	if n <= 0 || len(l.Shares) <= n {
		return
	}
	for _, s := range l.Shares[n:] {
		l.LeftOut++
		if s.Amount != nil {
			l.LeftOutBy += *s.Amount
		}
	}
	l.Shares = l.Shares[:n]
}

// first puts a share that comes before all others there.
func first(s Share) int {
	if s.First {
		return 0
	}
	return 1
}

// orLess is a figure, or less than any.
func orLess(v *float64) float64 {
	if v == nil {
		return -1
	}
	return *v
}
