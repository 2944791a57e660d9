// Package sheet holds the one shape in which a ledger and its shares leave the program, for `weigh`, the service's API
// and its client alike. Field names are stable and carry their unit, or have it stated in a field beside them.
//
// It imports core/... only. Start with Ledger.
package sheet

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
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
	Warming     []Warming         `json:"warming,omitempty" doc:"Workloads seen for the first time: they have no usage yet."`
	Notes       map[string]string `json:"notes,omitempty" doc:"Why a field is null, by field name."`
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
		Capacity: line(l.Capacity), Used: line(l.Used), Idle: line(l.Idle), Kernel: line(l.Kernel),
		Steal: line(l.Steal),
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

// Orders are what shares can be sorted by; a dash before one turns it round. The first is the default.
var Orders = []string{"amount", "name", "kind", "owner", "tenant", "host", "peak", "source", "parts"}

// CheckOrder says what is wrong with a word for Sort; "" is the default.
func CheckOrder(by string) error {
	if by != "" && !slices.Contains(Orders, strings.TrimPrefix(by, "-")) {
		return fmt.Errorf("cannot sort by %q: choose one of %s, with a dash before it for the other way round", by,
			strings.Join(Orders, ", "))
	}
	return nil
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
