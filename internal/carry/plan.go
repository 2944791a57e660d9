package carry

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"vinescale/core/act"
	"vinescale/core/amount"
	"vinescale/internal/kernel/netlink"
)

// plan is what an act would do: the preview tells of it, and carry does it.
type plan struct {
	act.Preview
	aim     *aim
	touched []act.Touched // workloads
	values  []change
	births  *netlink.Births // while it is carried out, where somebody might escape; nil where they are not told
	// more is done after the values are set; nil for nothing.
	more func(ctx context.Context, out *act.Outcome) error
	// again looks for what came meanwhile and is to be set too, such as threads made since; nil for nothing.
	again func() []change
}

// plan makes the plan of an act, as things are now. The error says why there is none.
func (h *Host) plan(ctx context.Context, o *act.Order) (*plan, error) {
	policy, err := h.Policy()
	if err != nil {
		return nil, &refusal{err.Error()}
	}
	r, err := o.Request.Check()
	if err != nil {
		return nil, &refusal{err.Error()}
	}
	p := &plan{Preview: act.Preview{Through: "the kernel", Processes: []act.Involved{}, Changes: []act.Change{},
		Shared: []string{}, Warnings: []string{}, Left: []act.Refusal{}, Workloads: []string{}}}
	entry, _ := r.Verb.Entry() // it was checked
	p.Undo = entry.Undo
	switch r.Target.Form {
	case act.OfAct:
		err = h.planUndo(p, &r, policy)
	case act.OfUnit:
		err = h.planUnit(ctx, p, &r, o.Whose, policy)
	case act.OfGPU:
		err = h.planGPU(ctx, p, &r, o.Whose, policy)
	case act.OfJob:
		err = h.planJob(ctx, p, &r, o.Whose, policy)
	default:
		if p.aim, err = h.find(ctx, &r, o.Whose, policy); err == nil {
			p.describe(h)
			p.touch(p.aim.touched)
			err = h.planOn(ctx, p, &r)
		}
	}
	if err != nil {
		return nil, err
	}
	p.Identity = digest(p.identity())
	for i := range p.values {
		v := &p.values[i]
		p.Changes = append(
			p.Changes,
			act.Change{What: v.what(), Where: v.where(), Before: v.Before, After: v.After},
		)
	}
	if len(p.Changes) > act.MostListed {
		p.Warnings = append(p.Warnings, fmt.Sprintf("%d values more are changed than are listed",
			len(p.Changes)-act.MostListed))
		p.Changes = p.Changes[:act.MostListed]
	}
	return p, nil
}

// identity is what must be the same when a plan is carried out: the target, what it is done through, and the values of
// its groups.
func (p *plan) identity() []string {
	words := []string{p.Target}
	if p.aim != nil {
		words = slices.Clone(p.aim.identity)
	}
	words = append(words, p.Through)
	for i := range p.values {
		if v := &p.values[i]; v.PID == 0 { // threads come and go
			words = append(words, v.where(), v.Before, v.After)
		}
	}
	return words
}

// describe tells of an aim.
func (p *plan) describe(h *Host) {
	p.Target, p.Total = p.aim.words, len(p.aim.hit)
	p.Left = append(p.Left, p.aim.left...)
	p.Shared = append(p.Shared, p.aim.shared...)
	for i := range p.aim.hit {
		if i == act.MostListed {
			break
		}
		p.Processes = append(p.Processes, h.tell(&p.aim.hit[i]))
	}
	if len(p.aim.inner) > 0 {
		p.Warnings = append(p.Warnings, "within it, and touched as well: "+strings.Join(p.aim.inner, ", "))
	}
}

// planOn plans an act on processes and their groups, or through the system that manages them.
func (h *Host) planOn(ctx context.Context, p *plan, r *act.Request) error {
	if p.aim.workload != nil {
		done, err := h.planManaged(ctx, p, r)
		if done || err != nil {
			return err
		}
	}
	switch r.Verb {
	case act.End:
		return h.planEnd(p, r)
	case act.Pause, act.Continue:
		return h.planPause(p, r)
	case act.Weigh, act.Cap, act.Place:
		return h.planAllowance(p, r)
	case act.Message:
		return h.planMessage(p, r)
	case act.Look:
		return h.planLook(p, r)
	case act.Read:
		return h.planReadOf(p, r)
	}
	return refuse("%s cannot be done to a %s", r.Verb, r.Target.Form)
}

// planAllowance plans to say what a workload or its processes may use.
func (h *Host) planAllowance(p *plan, r *act.Request) error {
	plan := h.planWeigh
	switch r.Verb {
	case act.Cap:
		plan = h.planCap
	case act.Place:
		plan = h.planPlace
	}
	if err := plan(p, r); err != nil {
		return err
	}
	if w := p.aim.workload; w != nil && w.Kind == amount.Container {
		h.throughItsManager(p)
	}
	return nil
}

// set adds a value that is to be set, unless it is that already.
func (p *plan) set(h *Host, c change) error {
	now, err := c.read(h)
	if errors.Is(err, errGone) && p.makes(c.File) {
		now, err = noneYet(&c), nil // its group is made before it is set
	}
	if err != nil {
		if errors.Is(err, errGone) && c.PID != 0 {
			return nil // a thread that ended meanwhile
		}
		return refuse("%s of %s cannot be read: %v", c.what(), c.where(), err)
	}
	if c.Before = now; c.isAs(now, c.After) {
		return nil
	}
	p.values = append(p.values, c)
	return nil
}

// carry does what is planned, and reads back what came of it.
func (p *plan) carry(ctx context.Context, h *Host) act.Outcome {
	out := act.Outcome{Changes: []act.Change{}, Left: slices.Clone(p.Left), Found: []act.Glimpse{}}
	set, missed := 0, 0
	put := func(v *change) {
		err := v.write(h, v.After)
		now, failed := v.settled(h, err)
		if v.PID != 0 && (errors.Is(err, errGone) || errors.Is(failed, errGone)) {
			return // it ended meanwhile, and needs nothing any more
		}
		if err == nil {
			err = failed
		}
		if err == nil && !v.isAs(now, v.After) {
			err = fmt.Errorf("it reads %s afterwards", now)
		}
		if err != nil {
			missed++
			if len(out.Left) < act.MostListed {
				out.Left = append(out.Left, act.Refusal{What: v.what() + ", " + v.where(), Why: err.Error()})
			}
			return
		}
		set++
		if len(out.Changes) < act.MostListed {
			out.Changes = append(
				out.Changes,
				act.Change{What: v.what(), Where: v.where(), Before: v.Before, After: now},
			)
		}
	}
	for i := range p.values {
		put(&p.values[i])
	}
	for round := 0; p.again != nil && round < 20; round++ {
		came := p.again()
		if len(came) == 0 {
			break
		}
		for i := range came {
			put(&came[i])
		}
		p.values = append(p.values, came...)
	}
	if p.aim != nil {
		out.Hit = len(p.aim.hit)
	}
	out.CanUndo = p.Undo != "" && set > 0
	if p.more != nil {
		if err := p.more(ctx, &out); err != nil {
			out.State, out.Detail = act.Failed, err.Error()
			if set > 0 {
				out.State = act.Partly
			}
			return out
		}
		if out.State != "" {
			return out
		}
	}
	out.State = act.Done
	switch {
	case missed > 0 && set == 0:
		out.State, out.Detail = act.Failed, "none of it could be done"
	case missed > 0:
		out.State = act.Partly
		out.Detail = fmt.Sprintf("%s set, %d could not be", values(set), missed)
	case len(p.values) == 0 && p.more == nil:
		out.Detail = "all of it was so already; nothing was changed"
	case set > 0:
		out.Detail = values(set) + " set and read back"
	}
	return out
}

func values(n int) string {
	if n == 1 {
		return "1 value"
	}
	return fmt.Sprint(n, " values")
}

// planUndo plans to put back what an act changed, as far as it is still what that act set.
func (h *Host) planUndo(p *plan, r *act.Request, policy *act.Policy) error {
	of, err := h.journal.find(r.Target.Act)
	switch {
	case err != nil:
		return refuse("this host's journal of acts cannot be read: %v", err)
	case of == nil || of.Outcome == nil:
		return refuse("this host does not know act %s: it was of another host, or is too long ago", r.Target.Act)
	case of.Undone:
		return refuse("act %s was undone already", r.Target.Act)
	case !of.Outcome.CanUndo:
		return refuse("act %s changed nothing that could be put back", r.Target.Act)
	}
	for i := range of.Touched {
		if err := policy.Decide(of.Request.Verb, &of.Touched[i]); err != nil {
			return &refusal{err.Error()}
		}
	}
	p.touch(of.Touched)
	p.Target, p.Undo = fmt.Sprintf(
		"what act %s changed (%s %s)",
		of.ID,
		of.Request.Verb,
		of.Request.Target.String(),
	), ""
	for i := len(of.Values) - 1; i >= 0; i-- { // what was set last is put back first
		v := of.Values[i]
		now, err := v.read(h)
		switch {
		case err != nil:
			p.Left = append(p.Left, act.Refusal{What: v.what() + ", " + v.where(), Why: err.Error()})
		case v.isAs(now, v.Before):
		case !v.isAs(now, v.After):
			p.Left = append(p.Left, act.Refusal{What: v.what() + ", " + v.where(),
				Why: fmt.Sprintf("somebody has set it to %s since", now)})
		default:
			v.Before, v.After = now, v.Before
			p.values = append(p.values, v)
		}
	}
	if len(p.values) == 0 {
		return refuse("nothing that act %s set is still as it set it", of.ID)
	}
	return nil
}

// touch notes which workloads are touched.
func (p *plan) touch(list []act.Touched) {
	p.touched = list
	for i := range list {
		p.Workloads = append(p.Workloads, list[i].Key)
	}
}
