package wire

import (
	"fmt"
	"strings"
	"time"

	"vinescale/core/amount"
)

// check holds the columns of an interval to each other, and figures to what they can be.
func (iv *Interval) check() error {
	if iv.Boot == "" || iv.Sequence == 0 || iv.Sequence > 1<<63-1 {
		return fmt.Errorf("boot and sequence must be given; they are what it is known by")
	}
	if iv.ElapsedMillis <= 0 || iv.ElapsedMillis > 86_400_000 {
		return fmt.Errorf("elapsed_millis is %d: an interval is longer than nothing and at most a day",
			iv.ElapsedMillis)
	}
	if y := time.UnixMicro(iv.FromUnixMicros).Year(); y < 2000 || y > 2200 || iv.ToUnixMicros < iv.FromUnixMicros {
		return fmt.Errorf("from %d to %d microseconds since 1970 is no span of time", iv.FromUnixMicros,
			iv.ToUnixMicros)
	}
	w := iv.GetWorkloads()
	n := len(w.GetKey())
	seen := make(map[string]bool, n)
	for i, k := range w.GetKey() {
		if k == "" || len(k) > 1024 || seen[k] {
			return fmt.Errorf("workload %d: key %.40q is empty, too long, or there twice", i, k)
		}
		seen[k] = true
		if i < len(w.Kind) {
			if _, err := amount.ParseKind(w.Kind[i]); err != nil {
				return fmt.Errorf("workload %d: %w", i, err)
			}
		}
	}
	if err := sameLength("workloads", n, len(w.GetKind()), len(w.GetName()), len(w.GetOwner()), len(w.GetUid()),
		len(w.GetPath()),
		len(w.GetAllowed()), len(w.GetLabels()), len(w.GetThreads()), len(w.GetProcesses())); err != nil {
		return err
	}
	if err := iv.checkResources(n); err != nil {
		return err
	}
	if err := maybeSameLength("workloads", n, len(w.GetOuter()), len(w.GetRecogniser()), len(w.GetFacts()),
		len(w.GetRunnableMillis()), len(w.GetRunnablePeak())); err != nil {
		return err
	}
	for i := range w.GetRunnableMillis() {
		if w.RunnableMillis[i] < 0 {
			return fmt.Errorf("workload %d: negative runnable_millis", i)
		}
	}
	p := iv.GetPrograms()
	if err := maybeSameLength("programs", len(p.GetWorkload()), len(p.GetFamily())); err != nil {
		return err
	}
	for i, f := range p.GetFamily() {
		if f < -1 || int(f) >= len(p.Names) {
			return fmt.Errorf("programs row %d names a family that is not in the batch", i)
		}
	}
	if err := iv.checkParts(n); err != nil {
		return err
	}
	if err := iv.GetFigures().check(n); err != nil {
		return err
	}
	if inv := iv.GetInventory(); inv != nil {
		if _, err := inv.Read(); err != nil {
			return fmt.Errorf("inventory: %w", err)
		}
		if strings.Contains(inv.Json, `\u0000`) {
			return fmt.Errorf("inventory: a name holds a NUL, which cannot be stored")
		}
	}
	if err := sameLength("programs", len(p.GetWorkload()), len(p.GetProgram()), len(p.GetProcesses())); err != nil {
		return err
	}
	for i, x := range p.GetWorkload() {
		if int(x) >= n || p.Program[i] < -1 || int(p.Program[i]) >= len(p.Names) {
			return fmt.Errorf("programs row %d names a workload or program that is not in the batch", i)
		}
	}
	c := iv.GetCpuUse()
	if err := sameLength("cpu_use", len(c.GetWorkload()), len(c.GetCpu()), len(c.GetMicros())); err != nil {
		return err
	}
	for i, x := range c.GetWorkload() {
		if int(x) >= n || c.Cpu[i] > 8191 || c.Micros[i] < 0 {
			return fmt.Errorf("cpu_use row %d names a workload or CPU that is not there", i)
		}
	}
	if len(c.GetSource()) != n && len(c.GetWorkload()) > 0 {
		return fmt.Errorf("cpu_use: source has %d elements for %d workloads", len(c.GetSource()), n)
	}
	return nil
}

// checkParts checks the tables that may be left out: parts and processes.
func (iv *Interval) checkParts(workloads int) error {
	t := iv.GetParts()
	if err := sameLength("parts", len(t.GetWorkload()), len(t.GetName()), len(t.GetMicros())); err != nil {
		return err
	}
	for i, x := range t.GetWorkload() {
		if int(x) >= workloads || t.Micros[i] < 0 {
			return fmt.Errorf("parts row %d is negative, or names a workload that is not there", i)
		}
	}
	p := iv.GetProcesses()
	n := len(p.GetPid())
	if err := sameLength("processes", n, len(p.GetWorkload()), len(p.GetParent()), len(p.GetProgram()), len(p.GetUid()),
		len(p.GetThreads()),
		len(p.GetRunnable()), len(p.GetLastCpu()), len(p.GetCpuMicros()), len(p.GetMemoryBytes()),
		len(p.GetDiskBytes())); err != nil {
		return err
	}
	for i := range n {
		if int(p.Workload[i]) >= workloads || int(p.Program[i]) >= len(p.Names) {
			return fmt.Errorf("processes row %d names a workload or program that is not there", i)
		}
	}
	return nil
}

// maybeSameLength is sameLength for columns that an older sender leaves out.
func maybeSameLength(what string, n int, lengths ...int) error {
	for _, l := range lengths {
		if l != 0 && l != n {
			return fmt.Errorf("%s: a column has %d elements, another %d", what, l, n)
		}
	}
	return nil
}

func sameLength(what string, n int, lengths ...int) error {
	for _, l := range lengths {
		if l != n {
			return fmt.Errorf("%s: a column has %d elements, another %d", what, l, n)
		}
	}
	return nil
}
