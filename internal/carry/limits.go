package carry

import (
	"errors"
	"fmt"
	"maps"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"vinescale/core/act"
)

// ownGroup is a workload's group for a controller that holds nobody else's processes, but those that are told of as
// sharing it. The error says why there is none.
func (h *Host) ownGroup(controller string, a *aim) (group, error) {
	g, err := h.groupFor(controller, a)
	if err != nil {
		return g, err
	}
	if len(a.left) > 0 {
		return g, fmt.Errorf("%s is in its group, and is never touched: %s", a.left[0].What, a.left[0].Why)
	}
	pids, err := g.pids()
	if err != nil {
		return g, err
	}
	root, _, _ := h.hierarchy(controller)
	isItsOwn := g.dir == filepath.Join(root, a.workload.Path)
	for _, pid := range pids {
		is := slices.ContainsFunc(a.members, func(p process) bool { return p.pid == pid })
		if p, err := h.look(pid); !is && !isItsOwn && err == nil && !p.isEnded() {
			return g, fmt.Errorf(
				"its group of the controller %s holds others too, such as process %d, %s",
				controller,
				pid,
				p.comm,
			)
		}
	}
	return g, nil
}

// planPause plans to stop or continue: a whole group by the kernel's freezer, else process by process.
func (h *Host) planPause(p *plan, r *act.Request) error {
	if g, whole := h.wholeGroup(p.aim); whole {
		if fg, err := h.ownGroup("freezer", p.aim); err == nil {
			g = fg
			file, frozen, free := g.freezer()
			c := change{Kind: aFreeze, What: "whether it is stopped", File: file, After: frozen}
			if r.Verb == act.Continue {
				c.After = free
			}
			if _, err := os.Stat(file); err == nil {
				return p.set(h, c)
			}
		}
	}
	after := "stopped"
	if r.Verb == act.Continue {
		after = "running"
	} else {
		p.Warnings = append(p.Warnings, "its parent is told that it was stopped: a shell may say so")
	}
	stop := func(x *process) change {
		return change{
			Kind:  aStop,
			What:  "whether it is stopped",
			PID:   x.pid,
			TID:   x.pid,
			Start: x.start,
			After: after,
		}
	}
	for i := range p.aim.hit {
		if err := p.set(h, stop(&p.aim.hit[i])); err != nil {
			return err
		}
	}
	if r.Target.Form == act.OfProcess || r.Verb == act.Continue {
		return nil
	}
	p.again = func() []change { return h.newOnes(p, stop) }
	return nil
}

// newOnes are the values of processes that descend from what is touched and were made meanwhile.
func (h *Host) newOnes(p *plan, value func(*process) change) (values []change) {
	list, err := h.all()
	if err != nil {
		return nil
	}
	from := map[int32]bool{}
	for i := range p.aim.hit {
		if h.isThere(p.aim.hit[i].ref()) {
			from[p.aim.hit[i].pid] = true
		}
	}
	for _, x := range descendants(list, from) {
		if slices.ContainsFunc(p.aim.members, func(o process) bool { return o.ref() == x.ref() }) || x.isKernel ||
			p.aim.spare.why(&x) != "" {
			continue
		}
		p.aim.hit, p.aim.members = append(p.aim.hit, x), append(p.aim.members, x)
		c := value(&x)
		if c.Before, err = c.read(h); err == nil && !c.isAs(c.Before, c.After) {
			values = append(values, c)
		}
	}
	return values
}

// planWeigh plans to change weights: of threads, and of a workload's group.
func (h *Host) planWeigh(p *plan, r *act.Request) error {
	for _, name := range []string{"cpu-weight", "io-weight"} {
		value := r.Settings[name]
		if value == "" {
			continue
		}
		if p.aim.workload == nil {
			return refuse("%s is of the group of a workload: aim at one, or give nice or io-priority", name)
		}
		if err := h.planWeight(p, name, value); err != nil {
			return err
		}
	}
	for _, x := range []struct {
		setting, what string
		kind          kind
	}{{"nice", "niceness", aNiceness}, {"io-priority", "priority on disks", aPriority}} {
		if value := r.Settings[x.setting]; value != "" {
			if err := h.planThreads(p, x.kind, x.what, value); err != nil {
				return err
			}
		}
	}
	return nil
}

// usualShares is what cpu.shares of version 1 is where nobody set it; 100 is the usual weight of version 2.
const usualShares = 1024

func (h *Host) planWeight(p *plan, name, value string) error {
	weight, err := strconv.ParseInt(value, 10, 64)
	if err != nil {
		return err
	}
	controllers, files := []string{"cpu"}, map[string]string{"cpu.weight": value,
		"cpu.shares": strconv.FormatInt(max(2, weight*usualShares/100), 10)}
	what := "weight for CPU time"
	if name == "io-weight" {
		controllers, what = []string{"io", "blkio"}, "weight on disks"
		// Version 1 knows weights from 10 to 1000 (the kernel's "Block IO Controller"; BFQ from 1).
		v1 := strconv.FormatInt(min(max(weight, 10), 1000), 10)
		files = map[string]string{"io.weight": "default " + value, "blkio.bfq.weight": v1, "blkio.weight": v1}
	}
	var failed error
	for _, controller := range controllers {
		g, err := h.ownGroup(controller, p.aim)
		if err != nil {
			failed = err
			continue
		}
		for _, file := range slices.Sorted(maps.Keys(files)) {
			path := filepath.Join(g.dir, file)
			if _, err := os.Stat(path); err == nil {
				return p.set(h, change{Kind: aFile, What: what, File: path, After: files[file]})
			}
		}
		failed = fmt.Errorf("the controller %s of this kernel knows no weights", controller)
	}
	return refuse("the %s of %s cannot be set: %v", what, p.Target, failed)
}

// planThreads plans to set a value on every thread of what is touched, those made meanwhile too.
func (h *Host) planThreads(p *plan, k kind, what, value string) error {
	for i := range p.aim.hit {
		for _, c := range h.onThreads(&p.aim.hit[i], k, what, value) {
			if err := p.set(h, c); err != nil {
				return err
			}
		}
	}
	before := p.again
	p.again = func() (values []change) {
		if before != nil {
			values = before()
		}
		h.newOnes(p, func(x *process) change { return change{Kind: aStop, PID: x.pid, Start: x.start} })
		for i := range p.aim.hit {
			for _, c := range h.onThreads(&p.aim.hit[i], k, what, value) {
				if now, err := c.read(h); err == nil && !c.isAs(now, c.After) && !p.has(&c) {
					c.Before = now
					values = append(values, c)
				}
			}
		}
		return values
	}
	return nil
}

// has tells whether a value was set already: one that does not hold is not tried again and again.
func (p *plan) has(c *change) bool {
	return slices.ContainsFunc(p.values, func(v change) bool {
		return v.Kind == c.Kind && v.TID == c.TID && v.Start == c.Start
	})
}

func (h *Host) onThreads(x *process, k kind, what, value string) (values []change) {
	if h.IsStaged {
		return []change{{Kind: k, What: what, PID: x.pid, TID: x.pid, Start: x.start, After: value}}
	}
	for _, tid := range h.threads(x.pid) {
		if start, err := h.threadStart(x.pid, tid); err == nil {
			values = append(values, change{Kind: k, What: what, PID: x.pid, TID: tid, Start: start, After: value})
		}
	}
	return values
}

// usualPeriod is the time over which a CPU limit is kept, in microseconds, where nobody set another.
const usualPeriod = 100_000

// planCap plans to limit what a workload's group may use, or to lift a limit.
func (h *Host) planCap(p *plan, r *act.Request) error {
	for _, name := range slices.Sorted(maps.Keys(r.Settings)) {
		var err error
		switch value := r.Settings[name]; name {
		case "cpu":
			err = h.capCPU(p, value)
		case "memory":
			err = h.capMemory(p, value)
		case "processes":
			if value == act.None {
				value = "max"
			}
			err = h.capFile(p, "pids", "pids.max", "limit of processes and threads", value)
		default:
			err = h.capDevice(p, name, value)
		}
		var r *refusal
		if err != nil && !errors.As(err, &r) {
			err = refuse("the limit of %s cannot be set: %v", name, err)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (h *Host) capFile(p *plan, controller, file, what, value string) error {
	g, err := h.capGroup(p, controller)
	if err != nil {
		return err
	}
	return p.set(h, change{Kind: aFile, What: what, File: filepath.Join(g.dir, file), After: value})
}

func (h *Host) capCPU(p *plan, value string) error {
	g, err := h.capGroup(p, "cpu")
	if err != nil {
		return err
	}
	cores := math.Inf(1)
	if value != act.None {
		if cores, err = strconv.ParseFloat(value, 64); err != nil {
			return err
		}
	}
	if g.v2 {
		file := filepath.Join(g.dir, "cpu.max")
		period := int64(usualPeriod)
		if b, err := os.ReadFile(file); err == nil {
			if f := strings.Fields(string(b)); len(f) == 2 {
				period, _ = strconv.ParseInt(f[1], 10, 64)
			}
		}
		after := fmt.Sprint("max ", period)
		if value != act.None {
			after = fmt.Sprint(quotaOf(cores, period), " ", period)
		}
		return p.set(
			h,
			change{
				Kind:  aFile,
				What:  fmt.Sprintf("CPU limit, microseconds (%d are a core)", period),
				File:  file,
				After: after,
			},
		)
	}
	period := int64(usualPeriod)
	if b, err := os.ReadFile(filepath.Join(g.dir, "cpu.cfs_period_us")); err == nil {
		period, _ = strconv.ParseInt(strings.TrimSpace(string(b)), 10, 64)
	}
	after := "-1"
	if value != act.None {
		after = fmt.Sprint(quotaOf(cores, period))
	}
	return p.set(h, change{Kind: aFile, What: fmt.Sprintf("CPU limit, microseconds (%d are a core)", period),
		File: filepath.Join(g.dir, "cpu.cfs_quota_us"), After: after})
}

// quotaOf is a number of cores as the kernel takes it: microseconds in each period, a millisecond at least.
func quotaOf(cores float64, period int64) int64 {
	return max(1000, int64(math.Round(cores*float64(period))))
}

func (h *Host) capMemory(p *plan, value string) error {
	g, err := h.capGroup(p, "memory")
	if err != nil {
		return err
	}
	file, used, none := "memory.max", "memory.current", "max"
	if !g.v2 {
		file, used, none = "memory.limit_in_bytes", "memory.usage_in_bytes", "-1"
	}
	c := change{Kind: aMemory, What: "memory limit, bytes", File: filepath.Join(g.dir, file), After: value}
	if value == act.None {
		c.After = none
		return p.set(h, c)
	}
	limit, _ := strconv.ParseInt(value, 10, 64) // it was checked
	c.After = strconv.FormatInt(limit&^int64(os.Getpagesize()-1), 10)
	if b, err := os.ReadFile(filepath.Join(g.dir, used)); err == nil {
		if now, err := strconv.ParseInt(strings.TrimSpace(string(b)), 10, 64); err == nil && now > limit {
			p.Warnings = append(
				p.Warnings,
				fmt.Sprintf("it holds %d bytes now, more than the limit: the kernel takes what "+
					"can be taken back, and may end some of its processes for the rest", now),
			)
		}
	}
	return p.set(h, c)
}

// capDevice plans to limit the rate at which a device is read or written.
func (h *Host) capDevice(p *plan, name, value string) error {
	device, rate, _ := strings.Cut(value, "=")
	b, err := os.ReadFile(filepath.Join(h.Sys, "class/block", device, "dev"))
	if err != nil {
		return refuse("this host has no block device %q", device)
	}
	number := strings.TrimSpace(string(b))
	c := change{Kind: aDevice, Device: number, What: name + " limit of " + device + ", bytes a second", After: rate}
	if _, v2, _ := h.hierarchy("io"); v2 {
		g, err := h.capGroup(p, "io")
		if err != nil {
			return err
		}
		c.File = filepath.Join(g.dir, "io.max")
		if rate == act.None {
			c.After = "max"
		}
		return p.set(h, c)
	}
	g, err := h.capGroup(p, "blkio")
	if err != nil {
		return err
	}
	c.File = filepath.Join(g.dir, "blkio.throttle."+name+"_bps_device")
	if rate == act.None {
		c.After = "0"
	}
	return p.set(h, c)
}
