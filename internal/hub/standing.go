package hub

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"time"

	"vinescale/core/act"
	"vinescale/core/amount"
	"vinescale/core/question"
	"vinescale/core/tenancy"
	"vinescale/internal/sheet"
	"vinescale/internal/store"
)

// Firing is a moment at which the condition of a standing rule had held of a workload for its time.
type Firing struct {
	At       time.Time `json:"at"`
	Workload int64     `json:"workload_id"`
	Name     string    `json:"name"`
	Kind     string    `json:"kind"`
	Owner    string    `json:"owner"`
	Tenant   string    `json:"tenant"`
	Host     string    `json:"host"`
	Key      string    `json:"-"`
}

// StandingTrial is what a standing rule would have done over a span.
type StandingTrial struct {
	Firings []Firing `json:"firings" doc:"Oldest first."`
	Stops   *Firing  `json:"stops,omitempty" doc:"At which it would have stopped itself, for too many in an hour."`
	Minutes int      `json:"minutes" doc:"In which some workload met the condition, by workload."`
}

// longestTrial is how far a rule is tried on history at once.
const longestTrial = 8 * 24 * time.Hour

// StandingRules lists the standing rules.
func (h *Hub) StandingRules(ctx context.Context) ([]store.StandingRule, error) {
	return h.store.StandingRules(ctx)
}

// compiled is a standing rule that can be held against the book.
type compiled struct {
	act.Standing
	condition, except *tenancy.Condition
}

func compile(r *act.Standing) (*compiled, error) {
	clean, err := r.Check()
	if err != nil {
		return nil, problem(Invalid, "%v", err)
	}
	c := &compiled{Standing: clean}
	if c.condition, err = tenancy.CompileCondition(r.Condition); err != nil {
		return nil, problem(Invalid, "%v", err)
	}
	if r.Except != "" {
		if c.except, err = tenancy.CompileCondition(r.Except); err != nil {
			return nil, problem(Invalid, "except: %v", err)
		}
	}
	return c, nil
}

// measures are those that the rule's expressions ask about.
func (c *compiled) measures() []amount.Measure {
	list := slices.Clone(c.condition.Measures())
	if c.except != nil {
		list = append(list, c.except.Measures()...)
	}
	slices.Sort(list)
	return slices.Compact(list)
}

// AddStanding stores a standing rule, which is off.
func (h *Hub) AddStanding(ctx context.Context, r *act.Standing) error {
	if !hostName.MatchString(r.Name) {
		return problem(Invalid, "name %q: use letters, digits, dots, dashes and underscores", r.Name)
	}
	c, err := compile(r)
	if err != nil {
		return err
	}
	if c.Hours != "" {
		c.Zone = cmp.Or(c.Zone, h.usualZone())
	}
	err = h.store.AddStandingRule(
		ctx,
		&store.StandingRule{Name: r.Name, Rule: c.Standing, ForMillis: c.For.Milliseconds(),
			MadeAt: h.options.Now().UTC(), MadeBy: who(ctx)},
	)
	if errors.Is(err, store.ErrExists) {
		return problem(
			Conflict,
			"there is a standing rule %q already: remove it first, or choose another name",
			r.Name,
		)
	}
	if err != nil {
		return err
	}
	return h.store.NoteAct(ctx, who(ctx), "add standing rule", r.Name, c.Standing)
}

// RemoveStanding removes a standing rule.
func (h *Hub) RemoveStanding(ctx context.Context, name string) error {
	err := h.store.RemoveStandingRule(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return problem(NotFound, "there is no standing rule %q: vinescale standing list lists them", name)
	}
	if err != nil {
		return err
	}
	return h.store.NoteAct(ctx, who(ctx), "remove standing rule", name, map[string]any{})
}

// SwitchStanding switches a standing rule on, from now, or off.
func (h *Hub) SwitchStanding(ctx context.Context, name string, isOn bool) error {
	now := h.options.Now().UTC()
	err := h.store.ChangeStandingRule(ctx, name, func(x *store.StandingRule) error {
		if x.IsOn = isOn; isOn {
			x.OnAt, x.CheckedAt, x.Stopped = &now, &now, ""
		}
		return nil
	})
	if errors.Is(err, store.ErrNotFound) {
		return problem(NotFound, "there is no standing rule %q: vinescale standing list lists them", name)
	}
	if err != nil {
		return err
	}
	word := "off"
	if isOn {
		word = "on"
	}
	return h.store.NoteAct(ctx, who(ctx), "switch standing rule "+word, name, map[string]any{})
}

// TryStanding tells what a standing rule would have done over a span, to whom. Nothing is done.
func (h *Hub) TryStanding(ctx context.Context, r *act.Standing, span question.Span) (*StandingTrial, error) {
	c, err := compile(r)
	if err != nil {
		return nil, err
	}
	if span.Length() > longestTrial {
		return nil, problem(
			Invalid,
			"a span of %d days: try a rule on at most %d at once",
			int(span.Length().Hours()/24),
			int(longestTrial.Hours()/24),
		)
	}
	if !h.isKept(span.From) {
		return nil, problem(
			Invalid,
			"single minutes are kept for %d days: try the rule on a later span",
			h.keptDays(),
		)
	}
	firings, minutes, err := h.firings(ctx, c, span, time.Time{})
	if err != nil {
		return nil, err
	}
	t := &StandingTrial{Firings: firings, Minutes: minutes}
	for i := range firings {
		if k := i - c.PerHour; k >= 0 && firings[i].At.Sub(firings[k].At) < time.Hour {
			t.Stops = &firings[i]
			break
		}
	}
	return t, nil
}

// firings finds when a rule's condition had held for its time, of which workloads, in a span. The minutes before the
// span count too, but none before the rule was switched on: what has gone on for long is acted on that time after it.
func (h *Hub) firings(
	ctx context.Context,
	c *compiled,
	span question.Span,
	onAt time.Time,
) (list []Firing, minutes int,
	err error) {
	book, _, err := h.rules(ctx)
	if err != nil {
		return nil, 0, err
	}
	names, err := h.tenantNames(ctx)
	if err != nil {
		return nil, 0, err
	}
	// One minute more than its time, so that a stretch that began earlier is known to have.
	wide := question.Span{From: span.From.Add(-c.For - time.Minute).Truncate(time.Minute), To: span.To}
	scope, err := h.scope(ctx, wide, "")
	if err != nil {
		return nil, 0, err
	}
	measures := c.measures()
	if len(measures) == 0 { // then it is enough that it is there
		measures = []amount.Measure{amount.CPU}
	}
	held := map[int64][]time.Time{}
	seen := map[int64]*store.Workload{}
	for from := wide.From; from.Before(wide.To); from = from.Add(6 * time.Hour) { // in parts that fit into memory
		part := scope
		part.Span = question.Span{From: from, To: minTime(from.Add(6*time.Hour), wide.To)}
		answer, err := h.store.Ask(ctx, question.Question{Scope: part, Measures: measures,
			By: []question.Dimension{question.Workload}, Step: time.Minute, NoPeaks: true})
		if err != nil {
			return nil, 0, err
		}
		if err := h.meet(ctx, seen, answer.Rows); err != nil {
			return nil, 0, err
		}
		for i := range answer.Rows {
			r := &answer.Rows[i]
			w := seen[r.Workload]
			if w == nil || r.Start.Before(onAt.Truncate(time.Minute)) {
				continue
			}
			means := map[amount.Measure]float64{}
			for k, m := range measures {
				if r.Sums[k].Known() {
					means[m] = m.Mean(r.Sums[k].Units, time.Minute.Milliseconds())
				}
			}
			subject := book.subject(w.Host.Name, w.Core())
			if c.condition.Holds(subject, means) && (c.except == nil || !c.except.Holds(subject, means)) {
				held[r.Workload] = append(held[r.Workload], r.Start)
				if !r.Start.Before(span.From) {
					minutes++
				}
			}
		}
	}
	for id, at := range held {
		slices.SortFunc(at, time.Time.Compare)
		w := seen[id]
		for _, t := range act.Firings(at, c.For) {
			isOpen, err := c.Open(t)
			if err != nil {
				return nil, 0, err
			}
			if isOpen && t.After(span.From) && !t.After(span.To) {
				list = append(list, Firing{At: t, Workload: id, Name: w.Name, Kind: w.Kind, Owner: w.Owner,
					Tenant: named(names, w.TenantID), Host: w.Host.Name, Key: w.Key})
			}
		}
	}
	slices.SortFunc(list, func(a, b Firing) int {
		return cmp.Or(a.At.Compare(b.At), cmp.Compare(a.Workload, b.Workload))
	})
	if list == nil {
		list = []Firing{}
	}
	return list, minutes, nil
}

func minTime(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}

// meet reads the workloads of rows that were not met yet.
func (h *Hub) meet(ctx context.Context, seen map[int64]*store.Workload, rows []question.Row) error {
	var ids []int64
	for i := range rows {
		if id := rows[i].Workload; seen[id] == nil && !slices.Contains(ids, id) {
			ids = append(ids, id)
		}
	}
	found, err := h.store.WorkloadsByID(ctx, ids)
	if err != nil {
		return err
	}
	for id := range found {
		w := found[id]
		seen[id] = &w
	}
	return nil
}

// standingDelay is how long after its end a minute is held against standing rules: its interval has come by then.
const standingDelay = 90 * time.Second

// furthestBack is how far a rule looks back when the service was down: what was then is past.
const furthestBack = 10 * time.Minute

// KeepStanding holds the rules that are switched on against the minutes that came, until the context ends.
func (h *Hub) KeepStanding(ctx context.Context) {
	for {
		h.duty(ctx, "hold standing rules against the book", h.StandOnce(ctx))
		select {
		case <-ctx.Done():
			return
		case <-time.After(20 * time.Second):
		}
	}
}

// StandOnce holds each rule that is switched on against the minutes since it was last.
func (h *Hub) StandOnce(ctx context.Context) error {
	rules, err := h.store.StandingRules(ctx)
	if err != nil {
		return err
	}
	until := h.options.Now().Add(-standingDelay).UTC().Truncate(time.Minute)
	var failed []error
	for i := range rules {
		if x := &rules[i]; x.IsOn && x.CheckedAt != nil && x.OnAt != nil && x.CheckedAt.Before(until) {
			failed = append(failed, h.stand(ctx, x, until))
		}
	}
	return errors.Join(failed...)
}

// stand holds one rule against the minutes up to a time. Of several instances one does: the one that moves the mark.
func (h *Hub) stand(ctx context.Context, x *store.StandingRule, until time.Time) error {
	rule := x.AsRule()
	c, err := compile(&rule)
	if err != nil {
		return h.stopStanding(ctx, x.Name, "it can no longer be understood: "+err.Error())
	}
	from := *x.CheckedAt
	if earliest := until.Add(-furthestBack); from.Before(earliest) {
		from = earliest
	}
	isMine := false
	err = h.store.ChangeStandingRule(ctx, x.Name, func(now *store.StandingRule) error {
		if isMine = now.IsOn && now.CheckedAt != nil && now.CheckedAt.Equal(*x.CheckedAt); isMine {
			now.CheckedAt = &until
		}
		return nil
	})
	if err != nil || !isMine {
		return err
	}
	firings, _, err := h.firings(ctx, c, question.Span{From: from, To: until}, *x.OnAt)
	if err != nil {
		return err
	}
	for i := range firings {
		if stopped, err := h.fire(ctx, c, &firings[i]); stopped || err != nil {
			return err
		}
	}
	return nil
}

// fire has a rule's act done on one workload, or stops the rule where that would be too many in an hour.
func (h *Hub) fire(ctx context.Context, c *compiled, f *Firing) (stopped bool, err error) {
	now := h.options.Now()
	n, err := h.store.ActsOfRule(ctx, c.Name, now.Add(-time.Hour))
	if err != nil {
		return false, err
	}
	if int(n) >= c.PerHour {
		return true, h.stopStanding(
			ctx,
			c.Name,
			fmt.Sprintf("it would have acted more than %d times in an hour; next was %s on "+
				"%s", c.PerHour, f.Name, f.Host),
		)
	}
	as := As(ctx, store.Token{Name: "rule " + c.Name, Role: Administrator})
	why := fmt.Sprintf("%s for %s", c.Condition, sheet.SpanText(c.For))
	if c.Verb == act.Note {
		return false, h.noteFiring(as, c, f, why)
	}
	x, err := h.requestAct(as, &ActOrder{Workload: f.Workload, Reason: why,
		Request: act.Request{Verb: c.Verb, Settings: c.Settings}}, c.Name)
	if err != nil {
		slog.Warn("a standing rule could not act", "rule", c.Name, "workload", f.Name, "error", err)
		return false, nil
	}
	if x.State != act.Previewed {
		return false, nil // its host did not answer, or refuses: that is on record
	}
	_, err = h.ConfirmAct(as, x.ID, x.Preview.Identity, "")
	return false, err
}

// noteFiring writes down that a rule's condition held, as an act that touches nothing.
func (h *Hub) noteFiring(ctx context.Context, c *compiled, f *Firing, why string) error {
	host, err := h.Host(ctx, f.Host)
	if err != nil {
		return err
	}
	now := h.options.Now().UTC()
	x := store.Intervention{
		ID:        newActID(),
		HostID:    &host.ID,
		Host:      f.Host,
		Who:       who(ctx),
		Reason:    why,
		Verb:      act.Note,
		Rule:      c.Name,
		State:     act.Done,
		Detail:    "noted",
		AskedAt:   now,
		ExpiresAt: now,
		OverAt:    &now,
		Request:   act.Request{Verb: act.Note, Target: act.Target{Form: act.OfWorkload, Key: f.Key}},
		Whose:     map[string]string{f.Key: f.Tenant},
	}
	return h.store.AddIntervention(ctx, &x)
}

// stopStanding switches a rule off that stops itself, and says why.
func (h *Hub) stopStanding(ctx context.Context, name, why string) error {
	err := h.store.ChangeStandingRule(ctx, name, func(x *store.StandingRule) error {
		x.IsOn, x.Stopped = false, why
		return nil
	})
	if err != nil {
		return err
	}
	slog.Warn("a standing rule stopped itself", "rule", name, "why", why)
	return h.store.NoteAct(
		ctx,
		"rule "+name,
		stopsStanding,
		name,
		map[string]any{"why": strings.TrimSpace(why)},
	)
}
