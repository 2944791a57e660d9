package cli

import (
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"vinescale/core/amount"
	"vinescale/internal/hub"
)

func newWorkloads() *cobra.Command {
	return newWorkloadListing("workloads", "/workloads", "Every workload of a span with what it used",
		`Workloads lists what ran in a span, most CPU time first. What was just seen for
the first time says when its usage will be known.`,
		`  vinescale workloads --host cellar-1
  vinescale workloads --which "kind == 'job' && account == 'frost'" --sort -memory_bytes_mean
  vinescale workloads --columns name,owner,cpu_cores_mean,state --as csv`, workloadColumns)
}

func newThreads() *cobra.Command {
	return newWorkloadListing("threads", "/threads",
		"Threads that want to run against the CPUs a workload may use, most crowded first",
		`Threads compares, for each workload, the threads that run or wait for a CPU with
the CPUs it may use: its limit, its cpuset, or what it asked for. Many more threads
than CPUs wait for each other; many more CPUs than threads stand idle.`,
		`  vinescale threads --first 10`, threadColumns)
}

func newPrograms() *cobra.Command {
	return newWorkloadListing("programs", "/programs",
		"Every program with all its processes added: the many small ones that add up",
		`Programs adds up all processes of each executable, over all hosts or one. What began
and ended between two readings is known to its workload only, and has a line of its own.`,
		`  vinescale programs --first 10
  vinescale programs --host cellar-1 --sort processes`, programColumns)
}

func newWorkloadListing[T any](use, path, short, long, example string, columns []column[T]) *cobra.Command {
	var span spanFlags
	var host, which string
	cmd := &cobra.Command{Use: use, Short: short, Long: long, Example: example, Args: cobra.NoArgs}
	cmd.Flags().StringVar(&host, "host", "", "one host (default: all)")
	cmd.Flags().StringVar(&which, "which", "",
		"only workloads that this expression matches: CEL over what rules may ask about")
	span.add(cmd)
	clientFlags(cmd)
	as := listFlags(cmd, 20)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		q, err := span.hostQuery(host)
		if err != nil {
			return err
		}
		if which != "" {
			q.Set("where", which)
		}
		as.flat = path == "/programs"
		var lines []T
		missed, err := getListing(cmd, path, q, &lines)
		if err != nil {
			return err
		}
		if err := list(cmd, as, columns, lines); err != nil {
			return err
		}
		as.sayMissed(cmd, &missed)
		return nil
	}
	return cmd
}

// useColumn is a column of one resource of a listing's rows; use gives the row's figure.
func useColumn[T any](name, head string, use func(T) *float64, text func(float64) string) column[T] {
	return column[T]{name: name, head: head, right: true, value: func(r T) any { return use(r) },
		text: func(r T) string {
			if v := use(r); v != nil {
				return text(*v)
			}
			return "–"
		}}
}

// meanColumns are a column of means for each resource.
func meanColumns[T any](use func(T, amount.Resource) *float64) (columns []column[T]) {
	for _, r := range amount.Resources() {
		c := useColumn(r.MeanField(), "", func(row T) *float64 { return use(row, r) },
			func(v float64) string { return meanText(r, v) })
		c.heads = func() string { return meanHead(r) }
		c.ifAny = r.Entry().IsOptional
		columns = append(columns, c)
	}
	return columns
}

// amountColumns are a column of amounts for each resource.
func amountColumns[T any](use func(T, amount.Resource) *float64) (columns []column[T]) {
	for _, r := range amount.Resources() {
		c := useColumn(r.AmountField(), "", func(row T) *float64 { return use(row, r) },
			func(v float64) string { return amountIn(r, v) })
		c.heads = func() string { return amountHead(r) }
		c.ifAny = r.Entry().IsOptional
		columns = append(columns, c)
	}
	return columns
}

// used finds the use of a resource; nil where the service, of another version, does not tell of it.
func used[U any](uses []U, name func(*U) string, r amount.Resource) *U {
	for i := range uses {
		if name(&uses[i]) == r.String() {
			return &uses[i]
		}
	}
	return nil
}

func workloadUse(w *hub.WorkloadLine, r amount.Resource) *hub.WorkloadUse {
	return used(w.Uses, func(u *hub.WorkloadUse) string { return u.Resource }, r)
}

func workloadMean(w hub.WorkloadLine, r amount.Resource) *float64 {
	if u := workloadUse(&w, r); u != nil {
		return u.Mean
	}
	return nil
}

func partAmount(uses []hub.PartUse, r amount.Resource) *float64 {
	if u := used(uses, func(u *hub.PartUse) string { return u.Resource }, r); u != nil {
		return u.Amount
	}
	return nil
}

func partMean(uses []hub.PartUse, r amount.Resource) *float64 {
	if u := used(uses, func(u *hub.PartUse) string { return u.Resource }, r); u != nil {
		return u.Mean
	}
	return nil
}

// cpuMean is the column of mean cores, beside others that are not of a resource.
var cpuMean = ofWorkloadCPU(column[hub.WorkloadLine]{name: amount.CPU.MeanField(), right: true,
	value: func(w hub.WorkloadLine) any { return workloadMean(w, amount.CPU) }}, "cores used")

// ofWorkloadCPU is a column of workloads' CPU time, in the unit that was chosen. Where that is another for each, such
// as the limit of each, its name stands with every figure.
func ofWorkloadCPU(c column[hub.WorkloadLine], cores string) column[hub.WorkloadLine] {
	c.heads = func() string {
		switch chosen.CPU {
		case "host", "limit":
			return "CPU"
		case "percent":
			return cpuPercent
		}
		return cores
	}
	c.text = func(w hub.WorkloadLine) string {
		v := workloadMean(w, amount.CPU)
		if v == nil {
			return "–"
		}
		u := cpuUnitOfWorkload(&w)
		if chosen.CPU == "host" || chosen.CPU == "limit" {
			return u.text(*v) + " " + u.name
		}
		return u.text(*v)
	}
	return c
}

// workloadMeans are a column of workloads' means for each resource.
func workloadMeans() []column[hub.WorkloadLine] {
	columns := meanColumns(workloadMean)
	columns[amount.CPU] = ofWorkloadCPU(columns[amount.CPU], amount.CPU.MeanUnit())
	return columns
}

var (
	workloadName = []column[hub.WorkloadLine]{
		{name: "name", head: "workload", value: func(w hub.WorkloadLine) any { return w.Name }},
		{name: "kind", head: "kind", value: func(w hub.WorkloadLine) any { return w.Kind }},
		{name: "owner", head: "owner", value: func(w hub.WorkloadLine) any { return w.Owner }},
		{name: "tenant", head: "tenant", value: func(w hub.WorkloadLine) any { return w.Tenant }},
		{name: "host", head: "host", value: func(w hub.WorkloadLine) any { return w.Host }},
	}
	workloadColumns = append(
		slices.Concat(workloadName, workloadMeans()),
		column[hub.WorkloadLine]{name: "threads", head: "threads", right: true,
			value: func(w hub.WorkloadLine) any { return w.Threads }, extra: true},
		column[hub.WorkloadLine]{name: "processes", head: "processes", right: true,
			value: func(w hub.WorkloadLine) any { return w.Processes }, extra: true},
		column[hub.WorkloadLine]{name: "cpu_source", head: "CPU source",
			value: func(w hub.WorkloadLine) any {
				if u := workloadUse(&w, amount.CPU); u != nil {
					return u.Source
				}
				return nil
			}, extra: true},
		column[hub.WorkloadLine]{name: "may_use_cpus", head: "may use", right: true,
			value: func(w hub.WorkloadLine) any { return w.MayUseCPUs }, extra: true},
		column[hub.WorkloadLine]{name: "id", head: "number", right: true,
			value: func(w hub.WorkloadLine) any { return w.ID }, extra: true},
		column[hub.WorkloadLine]{
			name:  "state",
			head:  "state",
			value: func(w hub.WorkloadLine) any { return w.State },
		},
	)
	threadColumns = append(append([]column[hub.WorkloadLine]{}, workloadName...),
		column[hub.WorkloadLine]{name: "threads", head: "threads", right: true,
			value: func(w hub.WorkloadLine) any { return w.Threads }},
		column[hub.WorkloadLine]{name: "runnable_threads_mean", head: "runnable", right: true,
			value: func(w hub.WorkloadLine) any { return w.RunnableMean },
			text:  func(w hub.WorkloadLine) string { return fmt.Sprintf("%.1f", w.RunnableMean) }},
		column[hub.WorkloadLine]{name: "runnable_threads_peak", head: "at most", right: true,
			value: func(w hub.WorkloadLine) any { return w.RunnablePeak }},
		column[hub.WorkloadLine]{name: "may_use_cpus", head: "CPUs", right: true,
			value: func(w hub.WorkloadLine) any { return w.MayUseCPUs },
			text:  func(w hub.WorkloadLine) string { return fmt.Sprintf("%.4g", w.MayUseCPUs) }},
		column[hub.WorkloadLine]{name: "may_use_by", head: "by",
			value: func(w hub.WorkloadLine) any { return w.MayUseBy }},
		column[hub.WorkloadLine]{name: "runnable_per_cpu", head: "per CPU", right: true,
			value: func(w hub.WorkloadLine) any { return w.Crowding },
			text: func(w hub.WorkloadLine) string {
				if w.Crowding == nil {
					return "–"
				}
				return fmt.Sprintf("%.2f", *w.Crowding)
			}},
		cpuMean,
	)
	programColumns = programTotals()
)

// programTotals are the columns of programs. What processes' own counters do not tell is shown only where it is named.
func programTotals() []column[hub.ProgramTotal] {
	columns := []column[hub.ProgramTotal]{
		{name: "program", head: "program", value: func(p hub.ProgramTotal) any { return p.Program }},
		{
			name:  "processes",
			head:  "processes",
			right: true,
			value: func(p hub.ProgramTotal) any { return p.Processes },
		},
		{
			name:  "workloads",
			head:  "workloads",
			right: true,
			value: func(p hub.ProgramTotal) any { return p.Workloads },
		},
	}
	means := meanColumns(func(p hub.ProgramTotal, r amount.Resource) *float64 { return partMean(p.Uses, r) })
	amounts := amountColumns(func(p hub.ProgramTotal, r amount.Resource) *float64 { return partAmount(p.Uses, r) })
	for i, r := range amount.Resources() {
		means[i].extra = r != amount.CPU
		amounts[i].extra = !r.Entry().ByProcess
		if !r.IsLevel() {
			columns = append(columns, means[i])
		}
		columns = append(columns, amounts[i])
	}
	return columns
}
