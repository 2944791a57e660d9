package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"vinescale/core/amount"
	"vinescale/internal/hub"
)

func newWorkloads() *cobra.Command {
	return newWorkloadListing("workloads", "/workloads", "Every workload of a span with what it used", `Workloads lists what ran in a span, most CPU time first. What was just seen for
the first time says when its usage will be known.`,
		`  vinescale workloads --host cellar-1
  vinescale workloads --which "kind == 'job' && account == 'frost'" --sort -memory_bytes_mean
  vinescale workloads --columns name,owner,cpu_cores_mean,state --as csv`, workloadColumns)
}

func newThreads() *cobra.Command {
	return newWorkloadListing("threads", "/threads", "Threads that want to run against the CPUs a workload may use, most crowded first", `Threads compares, for each workload, the threads that run or wait for a CPU with
the CPUs it may use: its limit, its cpuset, or what it asked for. Many more threads
than CPUs wait for each other; many more CPUs than threads stand idle.`,
		`  vinescale threads --first 10`, threadColumns)
}

func newPrograms() *cobra.Command {
	return newWorkloadListing("programs", "/programs", "Every program with all its processes added: the many small ones that add up", `Programs adds up all processes of each executable, over all hosts or one. What began
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
		var lines []T
		if err := get(cmd, path, q, &lines); err != nil {
			return err
		}
		return list(cmd, as, columns, lines)
	}
	return cmd
}

// mean is a workload's column of one resource.
func mean(r amount.Resource, name, head string, text func(float64) string) column[hub.WorkloadLine] {
	return column[hub.WorkloadLine]{name: name, head: head, right: true,
		value: func(w hub.WorkloadLine) any { return w.Uses[r].Mean },
		text: func(w hub.WorkloadLine) string {
			if w.Uses[r].Mean == nil {
				return "–"
			}
			return text(*w.Uses[r].Mean)
		}}
}

func per(unit float64, digits int) func(float64) string {
	return func(v float64) string { return fmt.Sprintf("%.*f", digits, v/unit) }
}

var (
	workloadName = []column[hub.WorkloadLine]{
		{name: "name", head: "workload", value: func(w hub.WorkloadLine) any { return w.Name }},
		{name: "kind", head: "kind", value: func(w hub.WorkloadLine) any { return w.Kind }},
		{name: "owner", head: "owner", value: func(w hub.WorkloadLine) any { return w.Owner }},
		{name: "tenant", head: "tenant", value: func(w hub.WorkloadLine) any { return w.Tenant }},
		{name: "host", head: "host", value: func(w hub.WorkloadLine) any { return w.Host }},
	}
	workloadColumns = append(append([]column[hub.WorkloadLine]{}, workloadName...),
		mean(amount.CPU, "cpu_cores_mean", "cores", per(1, 2)),
		mean(amount.Memory, "memory_bytes_mean", "memory GiB", per(1<<30, 2)),
		mean(amount.Disk, "disk_bytes_per_second_mean", "disk MB/s", per(1e6, 2)),
		mean(amount.Network, "network_bytes_per_second_mean", "network MB/s", per(1e6, 2)),
		column[hub.WorkloadLine]{name: "threads", head: "threads", right: true,
			value: func(w hub.WorkloadLine) any { return w.Threads }, extra: true},
		column[hub.WorkloadLine]{name: "processes", head: "processes", right: true,
			value: func(w hub.WorkloadLine) any { return w.Processes }, extra: true},
		column[hub.WorkloadLine]{name: "cpu_source", head: "CPU source",
			value: func(w hub.WorkloadLine) any { return w.Uses[amount.CPU].Source }, extra: true},
		column[hub.WorkloadLine]{name: "may_use_cpus", head: "may use", right: true,
			value: func(w hub.WorkloadLine) any { return w.MayUseCPUs }, extra: true},
		column[hub.WorkloadLine]{name: "id", head: "number", right: true,
			value: func(w hub.WorkloadLine) any { return w.ID }, extra: true},
		column[hub.WorkloadLine]{name: "state", head: "state", value: func(w hub.WorkloadLine) any { return w.State }},
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
		mean(amount.CPU, "cpu_cores_mean", "cores used", per(1, 2)),
	)
	programColumns = []column[hub.ProgramTotal]{
		{name: "program", head: "program", value: func(p hub.ProgramTotal) any { return p.Program }},
		{name: "processes", head: "processes", right: true, value: func(p hub.ProgramTotal) any { return p.Processes }},
		{name: "workloads", head: "workloads", right: true, value: func(p hub.ProgramTotal) any { return p.Workloads }},
		{name: "cpu_cores_mean", head: "cores", right: true, value: func(p hub.ProgramTotal) any { return p.Cores },
			text: func(p hub.ProgramTotal) string { return per(1, 2)(p.Cores) }},
		{name: "cpu_seconds", head: "CPU s", right: true, value: func(p hub.ProgramTotal) any { return p.CPUSeconds },
			text: func(p hub.ProgramTotal) string { return per(1, 1)(p.CPUSeconds) }},
		{name: "memory_bytes_mean", head: "memory GiB", right: true,
			value: func(p hub.ProgramTotal) any { return p.MemoryBytes },
			text:  func(p hub.ProgramTotal) string { return per(1<<30, 2)(p.MemoryBytes) }},
		{name: "disk_bytes", head: "disk GB", right: true, value: func(p hub.ProgramTotal) any { return p.DiskBytes },
			text: func(p hub.ProgramTotal) string { return per(1e9, 2)(p.DiskBytes) }},
	}
)
