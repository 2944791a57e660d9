package carry

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"time"

	"golang.org/x/sys/unix"

	"vinescale/core/act"
	"vinescale/internal/kernel/netlink"
)

// usualWait is how long what is asked to end is given, where nothing is said.
const usualWait = 10 * time.Second

// goneWithin is how long what was ended by force is given to be gone: a task that waits for a device does not end
// before that answers.
const goneWithin = 5 * time.Second

// planEnd plans to end processes: cleanly by asking and waiting, or by force so that none escapes.
func (h *Host) planEnd(p *plan, r *act.Request) error {
	isForced := r.Settings["force"] == "true"
	wait := usualWait
	if text := r.Settings["wait"]; text != "" {
		wait, _ = time.ParseDuration(text) // it was checked
	}
	p.Warnings = append(p.Warnings, "what has ended cannot be brought back")
	if r.Target.Form == act.OfProcess {
		p.warnOfChildren(h)
	}
	if isForced {
		p.Warnings = append(p.Warnings, "by force, it cannot save or finish anything")
		p.more = func(ctx context.Context, out *act.Outcome) error { return h.endByForce(ctx, p, r, out) }
		return nil
	}
	p.more = func(ctx context.Context, out *act.Outcome) error { return h.askToEnd(ctx, p, r, wait, out) }
	return nil
}

func (p *plan) warnOfChildren(h *Host) {
	list, err := h.all()
	if err != nil {
		return
	}
	if n := len(descendants(list, map[int32]bool{p.aim.hit[0].pid: true})) - 1; n > 0 {
		p.Warnings = append(
			p.Warnings,
			fmt.Sprintf("its %d descendants stay: aim at the family to end them too", n),
		)
	}
}

// askToEnd sends the signal that asks to end to all that is touched, and waits.
func (h *Host) askToEnd(ctx context.Context, p *plan, r *act.Request, wait time.Duration, out *act.Outcome) error {
	asked := map[ref]process{}
	for i := range p.aim.hit {
		x := &p.aim.hit[i]
		switch err := h.signal(x.ref(), unix.SIGTERM); {
		case errors.Is(err, errGone):
		case err != nil:
			out.Left = append(out.Left, act.Refusal{What: named(x), Why: err.Error()})
		default:
			asked[x.ref()] = *x
			// One that was stopped takes the signal when it goes on.
			if x.state == 'T' {
				_ = h.signal(x.ref(), unix.SIGCONT)
			}
		}
	}
	out.Hit = len(asked)
	left := h.waitFor(ctx, asked, wait)
	for _, x := range left {
		out.Left = append(
			out.Left,
			act.Refusal{What: named(&x), Why: fmt.Sprintf("it was asked to end and still runs "+
				"after %s: it may be at work on that, or not listen; ending it by force is another act", wait)},
		)
	}
	return endState(out, len(asked)-len(left), len(left))
}

func named(p *process) string { return fmt.Sprintf("process %d, %s", p.pid, p.comm) }

// waitFor waits until processes have ended and returns those that have not.
func (h *Host) waitFor(ctx context.Context, asked map[ref]process, wait time.Duration) []process {
	end := time.Now().Add(wait)
	left := maps.Clone(asked)
	for {
		maps.DeleteFunc(left, func(r ref, _ process) bool { return !h.isThere(r) })
		if len(left) == 0 || time.Now().After(end) || ctx.Err() != nil {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	return slices.SortedFunc(maps.Values(left), func(a, b process) int { return int(a.pid) - int(b.pid) })
}

func endState(out *act.Outcome, ended, left int) error {
	switch {
	case left == 0:
		out.State, out.Detail = act.Done, many(ended, "process")+" ended, and none of them is there any more"
	case ended == 0:
		out.State, out.Detail = act.Failed, "none of them ended"
	default:
		out.State, out.Detail = act.Partly, fmt.Sprintf("%s ended, %d did not", many(ended, "process"), left)
	}
	return nil
}

func many(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ses", n, what)
}

// crowd is a set of processes that is being ended, and may still grow meanwhile.
type crowd struct {
	h       *Host
	births  *netlink.Births
	in      map[int32]process // by pid: those that belong to it
	lineage map[int32]bool    // pids that belong or belonged to it: their children do too
	stopped map[ref]bool
	spared  map[int32]bool
	group   *group // that all belong to who are in it; nil for none
	isOf    func(*process) bool
	spare   *sparer
}

// endByForce ends all that is touched and whatever it makes meanwhile: it is stopped until nothing new appears, ended,
// and looked for again.
func (h *Host) endByForce(ctx context.Context, p *plan, r *act.Request, out *act.Outcome) error {
	c := &crowd{
		h:       h,
		spare:   p.aim.spare,
		in:      map[int32]process{},
		lineage: map[int32]bool{},
		stopped: map[ref]bool{},
		spared:  map[int32]bool{},
	}
	for i := range p.aim.members {
		c.spared[p.aim.members[i].pid] = true
	}
	for i := range p.aim.hit {
		x := p.aim.hit[i]
		c.in[x.pid], c.lineage[x.pid] = x, true
		delete(c.spared, x.pid)
	}
	if r.Target.Form == act.OfProcess {
		return c.endOne(ctx, &p.aim.hit[0], out)
	}
	if r.Target.Form == act.OfProgram {
		uid, program := p.aim.hit[0].uid, r.Target.Program
		c.isOf = func(x *process) bool {
			return x.uid == uid && (x.comm == program || h.executable(x.pid) == program)
		}
	}
	c.births = p.births
	if g, whole := h.wholeGroup(p.aim); whole {
		c.group = &g
		if err := writeFile(filepath.Join(g.dir, "cgroup.kill"), "1"); err == nil {
			return c.gather(ctx, out)
		}
		if thaw, err := g.freeze(ctx); err == nil {
			defer thaw()
		}
	}
	return c.gather(ctx, out)
}

// wholeGroup is the group that holds all that is touched and nobody else.
func (h *Host) wholeGroup(a *aim) (group, bool) {
	if a.workload == nil || len(a.left) > 0 || len(a.shared) > 0 {
		return group{}, false
	}
	for _, controller := range []string{"freezer", "pids", "cpu", "memory"} {
		if g, err := h.ownGroup(controller, a); err == nil {
			return g, true
		}
	}
	return group{}, false
}

// endOne ends a single process by force.
func (c *crowd) endOne(ctx context.Context, x *process, out *act.Outcome) error {
	if err := c.h.signal(x.ref(), unix.SIGKILL); err != nil && !errors.Is(err, errGone) {
		return err
	}
	left := c.h.waitFor(ctx, map[ref]process{x.ref(): *x}, goneWithin)
	out.Hit = 1
	c.explain(left, out)
	return endState(out, 1-len(left), len(left))
}

// gather ends the crowd in rounds: a round stops all that is there and ends it. It is over when two rounds in a row
// found nobody.
func (c *crowd) gather(ctx context.Context, out *act.Outcome) error {
	ended := map[ref]process{}
	quiet := 0
	end := time.Now().Add(goneWithin)
	for quiet < 2 && ctx.Err() == nil {
		c.stopAll()
		alive := 0
		for _, x := range c.in {
			if c.h.isThere(x.ref()) {
				alive++
			}
			ended[x.ref()] = x
			_ = c.h.signal(x.ref(), unix.SIGKILL) // whoever is left is told of below
		}
		if alive == 0 {
			quiet++
		} else {
			quiet = 0
		}
		if time.Now().After(end) {
			break
		}
		time.Sleep(10 * time.Millisecond)
		c.in = map[int32]process{}
		c.grow()
	}
	left := c.h.waitFor(ctx, ended, max(time.Until(end), 100*time.Millisecond))
	out.Hit = len(ended)
	c.explain(left, out)
	return endState(out, len(ended)-len(left), len(left))
}

// stopAll stops the crowd until nobody new appears: what is stopped makes no children.
func (c *crowd) stopAll() {
	for range 200 {
		isNew := false
		for _, x := range c.in {
			if !c.stopped[x.ref()] {
				c.stopped[x.ref()], isNew = true, true
				_ = c.h.signal(x.ref(), unix.SIGSTOP)
			}
		}
		if c.grow(); !isNew {
			return
		}
	}
}

// grow finds who belongs to the crowd by now: who descends from it, by what the kernel tells of births even where a
// parent is gone, and who is in its group.
func (c *crowd) grow() {
	if c.births != nil {
		_ = c.births.Drain(func(b netlink.Birth) {
			if c.lineage[b.Parent] && !c.spared[b.Child] {
				c.lineage[b.Child] = true
			}
		})
	}
	list, err := c.h.all()
	if err != nil {
		return
	}
	if c.group != nil {
		if pids, err := c.group.pids(); err == nil {
			for _, pid := range pids {
				c.lineage[pid] = c.lineage[pid] || !c.spared[pid]
			}
		}
	}
	if c.isOf != nil {
		for i := range list {
			if c.isOf(&list[i]) && !c.spared[list[i].pid] {
				c.lineage[list[i].pid] = true
			}
		}
	}
	from := map[int32]bool{}
	for i := range list {
		if c.lineage[list[i].pid] {
			from[list[i].pid] = true
		}
	}
	for _, x := range descendants(list, from) {
		if _, met := c.in[x.pid]; !met && !c.spared[x.pid] && c.spare.why(&x) != "" {
			c.spared[x.pid] = true // it was born, or became another, meanwhile
		}
		if !c.spared[x.pid] && !x.isKernel {
			c.in[x.pid], c.lineage[x.pid] = x, true
		}
	}
}

// explain says why processes are still there.
func (c *crowd) explain(left []process, out *act.Outcome) {
	for i := range left {
		why := "the kernel has not ended it yet"
		if now, err := c.h.look(left[i].pid); err == nil && now.state == 'D' {
			why = "it waits for a device that does not answer, and ends when that does"
		}
		out.Left = append(out.Left, act.Refusal{What: named(&left[i]), Why: why})
	}
}

// freeze stops all that is in a group at once (the kernel's "Cgroup Freezer" and "Control Group v2"), and returns what
// lets it go on.
func (g *group) freeze(ctx context.Context) (thaw func(), err error) {
	file, frozen, free := g.freezer()
	if err := writeFile(file, frozen); err != nil {
		return nil, err
	}
	for range 200 {
		if b, err := os.ReadFile(file); err != nil || string(b) == frozen+"\n" || ctx.Err() != nil {
			break
		}
		time.Sleep(5 * time.Millisecond)
	}
	return func() { _ = writeFile(file, free) }, nil
}

// freezer is the file that stops a group, and its two values.
func (g *group) freezer() (file, frozen, free string) {
	if g.v2 {
		return filepath.Join(g.dir, "cgroup.freeze"), "1", "0"
	}
	return filepath.Join(g.dir, "freezer.state"), "FROZEN", "THAWED"
}
