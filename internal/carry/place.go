package carry

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"vinescale/core/act"
	"vinescale/core/amount"
	"vinescale/core/cpuset"
)

// leastLeft is how many CPUs must be left for everybody else when some are given to one group alone.
const leastLeft = 1

// planPlace plans to say on which CPUs something may run: thread by thread, or by the group of a workload.
func (h *Host) planPlace(p *plan, r *act.Request) error {
	online, err := h.online()
	if err != nil {
		return err
	}
	for _, name := range []string{"cpus", "cpuset"} {
		if set, err := cpuset.Parse(r.Settings[name]); r.Settings[name] != "" &&
			(err != nil || !set.Within(online)) {
			return refuse("CPUs %s: this host has %s", r.Settings[name], online.String())
		}
	}
	if r.Settings["vcpu"] != "" {
		return refuse("a virtual CPU is placed through its machine's manager, and none is known for %s", p.Target)
	}
	if list := r.Settings["cpuset"]; list != "" {
		if err := h.planCPUSet(p, list, r.Settings["alone"]); err != nil {
			return err
		}
	}
	if list := r.Settings["cpus"]; list != "" {
		if err := h.planThreads(p, anAffinity, "CPUs it may run on", list); err != nil {
			return err
		}
		p.Warnings = append(
			p.Warnings,
			"threads and children that it makes later inherit these CPUs; what it made "+
				"before and is not listed keeps its own",
		)
		p.Warnings = append(p.Warnings, "this reserves nothing: others may run on these CPUs too")
	}
	return nil
}

func (h *Host) online() (cpuset.Set, error) {
	b, err := os.ReadFile(filepath.Join(h.Sys, "devices/system/cpu/online"))
	if err != nil {
		return cpuset.Set{}, fmt.Errorf("read which CPUs this host has: %w", err)
	}
	return cpuset.Parse(strings.TrimSpace(string(b)))
}

// planCPUSet plans to set the CPUs of a workload's group, and whether it has them alone.
func (h *Host) planCPUSet(p *plan, list, alone string) error {
	if p.aim.workload == nil {
		return refuse("cpuset is of the group of a workload: aim at one, or give cpus")
	}
	g, err := h.ownGroup("cpuset", p.aim)
	if err != nil {
		return refuse("the CPUs of its group cannot be set: %v; give cpus to set them thread by thread", err)
	}
	wanted, err := cpuset.Parse(list)
	if err != nil {
		return err
	}
	if alone == "true" {
		if err := h.leavesEnough(&g, wanted); err != nil {
			return err
		}
	}
	c := change{Kind: aFile, What: "CPUs of its group", File: filepath.Join(g.dir, "cpuset.cpus"), After: list}
	setCPUs := func() error { return p.set(h, c) }
	if alone == "" {
		return setCPUs()
	}
	x := change{Kind: aFile, What: "whether its group has its CPUs alone",
		File: filepath.Join(g.dir, "cpuset.cpus.partition"), After: "root"}
	if alone == "false" {
		x.After = "member"
	}
	if !g.v2 {
		x.File, x.After = filepath.Join(g.dir, "cpuset.cpu_exclusive"), map[string]string{"true": "1",
			"false": "0"}[alone]
		p.Warnings = append(
			p.Warnings,
			"version 1 of cgroups keeps other groups beside it off these CPUs, but not "+
				"processes that are in the outermost group",
		)
	}
	if alone == "false" { // CPUs that are no longer its alone may then be others'
		if err := p.set(h, x); err != nil {
			return err
		}
		return setCPUs()
	}
	if err := setCPUs(); err != nil {
		return err
	}
	return p.set(h, x)
}

// leavesEnough refuses to give a group CPUs alone where that would leave too few for everybody else.
func (h *Host) leavesEnough(g *group, wanted cpuset.Set) error {
	around := filepath.Join(filepath.Dir(g.dir), "cpuset.cpus.effective")
	if !g.v2 {
		around = filepath.Join(filepath.Dir(g.dir), "cpuset.effective_cpus")
	}
	b, err := os.ReadFile(around)
	if err != nil {
		return refuse("which CPUs would be left for others cannot be told: %v", err)
	}
	have, err := cpuset.Parse(strings.TrimSpace(string(b)))
	if err != nil {
		return err
	}
	if !g.v2 {
		for _, other := range h.exclusive(g) {
			have = have.Minus(other)
		}
	}
	if left := have.Minus(wanted); left.Len() < leastLeft {
		return refuse(
			"CPUs %s for it alone would leave none for everybody else: of %s that are free to be given, at "+
				"least %d must be left",
			wanted.String(),
			have.String(),
			leastLeft,
		)
	}
	return nil
}

// exclusive are the CPUs that groups beside one have alone, by version 1.
func (h *Host) exclusive(g *group) (sets []cpuset.Set) {
	entries, _ := os.ReadDir(filepath.Dir(g.dir))
	for _, e := range entries {
		dir := filepath.Join(filepath.Dir(g.dir), e.Name())
		b, err := os.ReadFile(filepath.Join(dir, "cpuset.cpu_exclusive"))
		if err != nil || strings.TrimSpace(string(b)) != "1" || dir == g.dir {
			continue
		}
		if b, err = os.ReadFile(filepath.Join(dir, "cpuset.cpus")); err == nil {
			if set, err := cpuset.Parse(strings.TrimSpace(string(b))); err == nil {
				sets = append(sets, set)
			}
		}
	}
	return sets
}

// planMessage plans to write a line to the terminals of a sign-in.
func (h *Host) planMessage(p *plan, r *act.Request) error {
	if p.aim.workload == nil ||
		p.aim.workload.Kind != amount.Session { // a container's terminals are not the host's
		return refuse("%s is no sign-in: it has no terminal of this host", p.Target)
	}
	return h.planWrite(p, r.Settings["text"])
}
