// Package sheet holds the one shape in which a ledger and its shares leave the program, for `weigh`, the service's API
// and its client alike. Field names are stable and carry their unit, or have it stated in a field beside them.
//
// It imports core/... only. Start with Ledger.
package sheet

import (
	"cmp"
	"slices"
	"time"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// Ledger is one resource of one host (or of several, added) over an interval.
//
// used = sum of shares + kernel + steal + residual, and capacity = used + idle where capacity is known. Null is
// "not available", and Notes says why by field name.
type Ledger struct {
	Host        string            `json:"host" doc:"The host, or a word for several."`
	From        time.Time         `json:"from"`
	To          time.Time         `json:"to"`
	CoveredFrom *time.Time        `json:"covered_from" doc:"Begin of the first interval with figures; null when there is none."`
	CoveredTo   *time.Time        `json:"covered_to" doc:"End of the last."`
	ElapsedS    float64           `json:"elapsed_seconds" doc:"Time covered by readings; less than to - from where readings are missing."`
	Resource    string            `json:"resource" enum:"cpu,memory,disk,network"`
	Unit        string            `json:"unit" doc:"Unit of amounts: cpu_seconds, or bytes. Memory's amount is its time-weighted mean."`
	MeanUnit    string            `json:"mean_unit" doc:"Unit of means and peaks: cores, bytes, or bytes_per_second."`
	CPUs        int               `json:"cpus" doc:"Logical CPUs."`
	Capacity    *float64          `json:"capacity"`
	Used        *float64          `json:"used" doc:"In use by the host's own count."`
	Idle        *float64          `json:"idle"`
	Kernel      *float64          `json:"kernel"`
	Steal       *float64          `json:"steal" doc:"CPU time taken by the hypervisor."`
	Residual    *float64          `json:"residual" doc:"Used and charged to nobody. Negative where shares are counted more finely than the host's total."`
	Shares      []Share           `json:"shares"`
	LeftOut     int               `json:"left_out" doc:"Shares that the limit left out of the list; they are in LeftOutAmount."`
	LeftOutBy   float64           `json:"left_out_amount"`
	Notes       map[string]string `json:"notes,omitempty" doc:"Why a field is null, by field name."`
}

// Share is the part one workload, user, program, kind, tenant or host had.
type Share struct {
	Name    string   `json:"name"`
	Kind    string   `json:"kind" doc:"Of a workload; empty for a group of several kinds."`
	Owner   string   `json:"owner" doc:"Of a workload or user; empty when not known, or of several."`
	Tenant  string   `json:"tenant,omitempty"`
	Host    string   `json:"host,omitempty"`
	Amount  *float64 `json:"amount"`
	Mean    *float64 `json:"mean"`
	Peak    *float64 `json:"peak,omitempty" doc:"Highest mean of one tick for a workload, of one minute for a group."`
	Source  string   `json:"source" enum:"counted,summed,split,reported,unavailable"`
	Parts   int      `json:"parts" doc:"Workloads (processes, for a program) in this share."`
	Missing int      `json:"missing" doc:"Of these, how many have no figure: the amount lacks theirs."`
	Reason  string   `json:"reason,omitempty" doc:"Why the amount is null, or lacks some."`
}

// Line is one host-wide line in account units, or the reason why it cannot be had.
type Line struct {
	Units  float64
	Reason string
}

// Totals are the host-wide lines of a ledger in account units, with the time they cover.
type Totals struct {
	Resource                            amount.Resource
	ElapsedMillis                       int64
	CPUs                                int
	From, To                            time.Time // covered; zero when nothing is
	Capacity, Used, Idle, Kernel, Steal Line
}

// TotalsOf takes the host-wide lines of an interval.
func TotalsOf(iv *account.Interval, r amount.Resource) Totals {
	l := &iv.Ledgers[r]
	line := func(l account.Line) Line { return Line{float64(l.Units), l.Reason} }
	return Totals{
		Resource: r, ElapsedMillis: iv.ElapsedMillis, CPUs: iv.CPUCount, From: iv.From.UTC(), To: iv.To.UTC(),
		Capacity: line(l.Capacity), Used: line(l.Used), Idle: line(l.Idle), Kernel: line(l.Kernel), Steal: line(l.Steal),
	}
}

// Fill sets the ledger's units and host-wide lines, and the residual that the shares leave.
func (l *Ledger) Fill(t Totals, shares float64) {
	r := t.Resource
	l.Resource, l.Unit, l.MeanUnit = r.String(), r.Unit(), r.MeanUnit()
	l.ElapsedS, l.CPUs = float64(t.ElapsedMillis)/1e3, t.CPUs
	if !t.To.IsZero() {
		l.CoveredFrom, l.CoveredTo = &t.From, &t.To
	}
	l.Notes = map[string]string{}
	put := func(name string, into **float64, line Line) {
		if line.Reason != "" {
			l.Notes[name] = line.Reason
			return
		}
		v := r.Amount(line.Units, t.ElapsedMillis)
		*into = &v
	}
	put("capacity", &l.Capacity, t.Capacity)
	put("used", &l.Used, t.Used)
	put("idle", &l.Idle, t.Idle)
	put("kernel", &l.Kernel, t.Kernel)
	put("steal", &l.Steal, t.Steal)
	residual := Line{Units: t.Used.Units - shares - t.Kernel.Units - t.Steal.Units, Reason: t.Used.Reason}
	put("residual", &l.Residual, residual)
}

// Mean converts one of the ledger's amounts into its MeanUnit.
func (l *Ledger) Mean(amount float64) float64 {
	if l.Resource == "memory" || l.ElapsedS == 0 {
		return amount
	}
	return amount / l.ElapsedS
}

// Sort orders shares largest first, unavailable last, equal ones by name, and keeps the first n (all when n is 0).
func (l *Ledger) Sort(n int) {
	slices.SortStableFunc(l.Shares, func(a, b Share) int {
		return cmp.Or(cmp.Compare(value(b), value(a)), cmp.Compare(a.Name, b.Name), cmp.Compare(a.Host, b.Host))
	})
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

func value(s Share) float64 {
	if s.Amount == nil {
		return -1
	}
	return *s.Amount
}
