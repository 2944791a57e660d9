package hub

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"vinescale/core/amount"
	"vinescale/core/question"
	"vinescale/core/tenancy"
	"vinescale/internal/store"
)

type whoKey struct{}

// As makes a context in which changes are written down as someone's, and acts are bound by what his token allows.
func As(ctx context.Context, token store.Token) context.Context {
	return context.WithValue(ctx, whoKey{}, token)
}

// tokenIn is the token in a context; a zero one is the service's own.
func tokenIn(ctx context.Context) store.Token {
	t, _ := ctx.Value(whoKey{}).(store.Token)
	return t
}

func who(ctx context.Context) string {
	if name := tokenIn(ctx).Name; name != "" {
		return name
	}
	return "the service"
}

// Rules lists the rules in the order they are tried, with a version that changes when they do.
func (h *Hub) Rules(ctx context.Context) ([]store.Rule, int64, error) { return h.store.Rules(ctx) }

// AddRule puts a rule at a position (last for 0) and returns it with how many workloads moved by it, from now on.
func (h *Hub) AddRule(ctx context.Context, position int, tenant, expression string) (store.Rule, int, error) {
	t, err := h.Tenant(ctx, tenant)
	if err != nil {
		return store.Rule{}, 0, err
	}
	if position < 0 {
		return store.Rule{}, 0, problem(Invalid, "position %d: count from 1, or leave it out for last", position)
	}
	if _, err := tenancy.Compile(0, t.ID, expression); err != nil {
		return store.Rule{}, 0, problem(Invalid, "%v", err)
	}
	r, err := h.store.AddRule(ctx, position, t.ID, expression)
	if err != nil {
		return r, 0, err
	}
	r.Tenant = t
	moved, err := h.reassign(ctx)
	if err != nil {
		return r, moved, err
	}
	return r, moved, h.store.NoteAct(ctx, who(ctx), "add rule", tenant,
		map[string]any{"position": r.Position, "expression": expression, "moved": moved})
}

// RemoveRule removes the rule at a position and returns how many workloads moved.
func (h *Hub) RemoveRule(ctx context.Context, position int) (moved int, err error) {
	err = h.store.RemoveRule(ctx, position)
	if errors.Is(err, store.ErrNotFound) {
		return 0, problem(NotFound, "there is no rule %d: vinescale rule list numbers them", position)
	}
	if err != nil {
		return 0, err
	}
	if moved, err = h.reassign(ctx); err != nil {
		return moved, err
	}
	return moved, h.store.NoteAct(
		ctx,
		who(ctx),
		"remove rule",
		fmt.Sprint(position),
		map[string]any{"moved": moved},
	)
}

// MoveRule gives a rule another position and returns how many workloads moved by it. Version is that of the list the
// caller saw, 0 for any: a list that changed since is left alone.
func (h *Hub) MoveRule(ctx context.Context, from, to int, version int64) (moved int, err error) {
	if to < 1 {
		return 0, problem(Invalid, "position %d: count from 1", to)
	}
	err = h.store.MoveRule(ctx, from, to, version)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return 0, problem(NotFound, "there is no rule %d: vinescale rule list numbers them", from)
	case errors.Is(err, store.ErrRulesChanged):
		return 0, problem(
			Conflict,
			"the rules changed since you saw them: list them again, then move the one you mean",
		)
	case err != nil:
		return 0, err
	}
	if moved, err = h.reassign(ctx); err != nil {
		return moved, err
	}
	return moved, h.store.NoteAct(ctx, who(ctx), "move rule", fmt.Sprint(from),
		map[string]any{"to": to, "moved": moved})
}

// Tenancy is all tenants and rules, in the form they are exported and imported; and, unless a file leaves them out,
// which tenants are parts of which, and what quotas and declarations of CPUs are in force.
type Tenancy struct {
	Tenants []string    `json:"tenants" yaml:"tenants"`
	Parts   []PartText  `json:"parts" yaml:"parts,omitempty" required:"false"`
	Rules   []RuleText  `json:"rules" yaml:"rules"`
	Quotas  []QuotaText `json:"quotas" yaml:"quotas,omitempty" required:"false"`
	Pins    []PinText   `json:"pins" yaml:"pins,omitempty" required:"false"`
}

// RuleText is one rule of a Tenancy.
type RuleText struct {
	Tenant string `json:"tenant" yaml:"tenant"`
	When   string `json:"when" yaml:"when" doc:"The rule's expression."`
}

// Export gives all tenants, by name, and all rules, in order.
func (h *Hub) Export(ctx context.Context) (*Tenancy, error) {
	x := &Tenancy{Tenants: []string{}, Rules: []RuleText{}}
	tenants, err := h.store.Tenants(ctx)
	if err != nil {
		return nil, err
	}
	for _, t := range tenants {
		x.Tenants = append(x.Tenants, t.Name)
	}
	rules, _, err := h.store.Rules(ctx)
	for _, r := range rules {
		x.Rules = append(x.Rules, RuleText{r.Tenant.Name, r.Expression})
	}
	if err != nil {
		return nil, err
	}
	return x, h.exportHoldings(ctx, x, tenants)
}

// Import is what taking over a Tenancy changes, or would change.
type Import struct {
	TenantsAdded   []string   `json:"tenants_added"`
	TenantsRemoved []string   `json:"tenants_removed"`
	TenantsKept    []string   `json:"tenants_kept" doc:"Not in the file, and kept: they lose their rules."`
	RulesAdded     []RuleText `json:"rules_added"`
	RulesRemoved   []RuleText `json:"rules_removed"`
	Reordered      bool       `json:"rules_reordered"`
	// What is put in force and what ends, each in a sentence.
	Quotas  []string    `json:"quotas_changed"`
	Pins    []string    `json:"pins_changed"`
	Parts   []string    `json:"parts_changed"`
	Changed bool        `json:"changed" doc:"False where the file is what there is already."`
	Moves   []TrialMove `json:"moves" doc:"Usage or workloads that change tenant, most CPU time first."`
}

// Import makes the rules those of a file, and adds its tenants; with prune, tenants that the file does not name are
// removed. With preview nothing is changed. The same file again changes nothing.
func (h *Hub) Import(ctx context.Context, span question.Span, x *Tenancy, prune, preview bool) (*Import, error) {
	has, err := h.Export(ctx)
	if err != nil {
		return nil, err
	}
	plan := &Import{TenantsAdded: []string{}, TenantsRemoved: []string{}, TenantsKept: []string{},
		RulesAdded: []RuleText{}, RulesRemoved: []RuleText{}, Moves: []TrialMove{}, Quotas: []string{},
		Pins: []string{}, Parts: []string{}}
	for _, name := range x.Tenants {
		if err := soundTenant(name); err != nil {
			return nil, err
		}
		if !slices.Contains(has.Tenants, name) && !slices.Contains(plan.TenantsAdded, name) {
			plan.TenantsAdded = append(plan.TenantsAdded, name)
		}
	}
	for _, name := range has.Tenants {
		switch {
		case slices.Contains(x.Tenants, name):
		case prune:
			plan.TenantsRemoved = append(plan.TenantsRemoved, name)
		default:
			plan.TenantsKept = append(plan.TenantsKept, name)
		}
	}
	book, names, err := h.bookOf(ctx, x, plan)
	if err != nil {
		return nil, err
	}
	plan.RulesAdded, plan.RulesRemoved = without(x.Rules, has.Rules), without(has.Rules, x.Rules)
	plan.Reordered = len(plan.RulesAdded) == 0 && len(plan.RulesRemoved) == 0 && !slices.Equal(x.Rules, has.Rules)
	plan.Changed = len(
		plan.TenantsAdded,
	)+len(
		plan.TenantsRemoved,
	)+len(
		plan.RulesAdded,
	)+len(
		plan.RulesRemoved,
	) > 0 ||
		plan.Reordered
	trial, err := h.compare(ctx, span, book, names, nil)
	if err != nil {
		return nil, err
	}
	plan.Moves = trial.Moves
	isSame := !plan.Changed // tenants and rules
	holdings, err := h.planHoldings(ctx, x, has, plan)
	if err != nil {
		return nil, err
	}
	plan.Changed = plan.Changed || len(plan.Quotas)+len(plan.Pins)+len(plan.Parts) > 0
	if preview || !plan.Changed {
		return plan, nil
	}
	if isSame {
		return plan, h.putHoldings(ctx, holdings)
	}
	rules := make([]store.NewRule, len(x.Rules))
	for i, r := range x.Rules {
		rules[i] = store.NewRule{Tenant: r.Tenant, Expression: r.When}
	}
	if err := h.store.ReplaceRules(ctx, plan.TenantsAdded, rules, plan.TenantsRemoved); err != nil {
		return nil, err
	}
	if _, err := h.reassign(ctx); err != nil {
		return nil, err
	}
	if err := h.putHoldings(ctx, holdings); err != nil {
		return nil, err
	}
	return plan, h.store.NoteAct(ctx, who(ctx), "import rules", fmt.Sprintf("%d rules", len(x.Rules)), plan)
}

// bookOf compiles the rules of a file. Tenants that are not there yet get negative numbers.
func (h *Hub) bookOf(ctx context.Context, x *Tenancy, plan *Import) (tenancy.Book, map[int32]string, error) {
	names, err := h.tenantNames(ctx)
	if err != nil {
		return nil, nil, err
	}
	for i, name := range plan.TenantsAdded {
		names[int32(-1-i)] = name
	}
	var book tenancy.Book
	for i, r := range x.Rules {
		id, found := int32(0), false
		for n, name := range names {
			if n != 0 && name == r.Tenant && slices.Contains(x.Tenants, name) {
				id, found = n, true
			}
		}
		if !found {
			return nil, nil,
				problem(Invalid,
					"rule %d of the file is for tenant %q, which the file's list of tenants does not name: add it "+
						"there", i+1, r.Tenant)
		}
		rule, err := tenancy.Compile(int32(-1-i), id, r.When)
		if err != nil {
			return nil, nil, problem(Invalid, "rule %d of the file: %v", i+1, err)
		}
		book = append(book, rule)
	}
	return book, names, nil
}

// without lists the rules of a that b lacks, counting equal ones.
func without(a, b []RuleText) []RuleText {
	left := slices.Clone(b)
	out := []RuleText{}
	for _, r := range a {
		if i := slices.Index(left, r); i >= 0 {
			left = slices.Delete(left, i, i+1)
		} else {
			out = append(out, r)
		}
	}
	return out
}

var poolName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._ -]{0,62}$`)

// SetPools puts a host into pools, in place of those it was in, and returns how many workloads moved by rules that ask.
func (h *Hub) SetPools(ctx context.Context, host string, pools []string) (moved int, err error) {
	x, err := h.Host(ctx, host)
	if err != nil {
		return 0, err
	}
	for _, p := range pools {
		if !poolName.MatchString(p) {
			return 0, problem(
				Invalid,
				"pool %q: use letters, digits, spaces, dots, dashes and underscores, at most 63",
				p,
			)
		}
	}
	if err := h.store.PutPools(ctx, x.ID, pools); err != nil {
		return 0, err
	}
	if moved, err = h.reassign(ctx); err != nil {
		return moved, err
	}
	return moved, h.store.NoteAct(ctx, who(ctx), "set pools", host, map[string]any{"pools": pools, "moved": moved})
}

// AboutHosts gives the pools of each host, and when the first figures of those that have none yet are due.
func (h *Hub) AboutHosts(ctx context.Context) (pools map[string][]string, due map[string]*time.Time, err error) {
	if pools, err = h.store.Pools(ctx); err != nil {
		return nil, nil, err
	}
	waiting, err := h.store.Warming(ctx, &question.Scope{Sees: h.sees(ctx)}, h.options.Now().Add(-time.Minute))
	due = map[string]*time.Time{}
	for i := range waiting {
		due[waiting[i].Host.Name] = waiting[i].DueAt
	}
	return pools, due, err
}

// Acts lists what was changed, and by whom, newest first.
func (h *Hub) Acts(ctx context.Context, most int) ([]store.Act, error) {
	return h.store.Acts(ctx, most)
}

// Suggestion is a rule for unassigned workloads that are alike.
type Suggestion struct {
	Expression string    `json:"expression"`
	About      string    `json:"about" doc:"What they have in common."`
	Workloads  int       `json:"workloads"`
	Examples   []string  `json:"examples" doc:"The largest of them, up to five."`
	Uses       []PartUse `json:"uses" doc:"What they used of each resource, in the order of resources."`
}

// Suggest lists what is unassigned over a span, alike together, most CPU time first, with a rule for each group.
func (h *Hub) Suggest(ctx context.Context, span question.Span) ([]Suggestion, error) {
	book, _, err := h.rules(ctx)
	if err != nil {
		return nil, err
	}
	unheld, err := h.store.Unheld(ctx, span.From)
	if err != nil {
		return nil, err
	}
	present, err := h.present(ctx, span, unheld)
	if err != nil {
		return nil, err
	}
	byKey := map[string]*question.Row{}
	var unassigned []tenancy.Weighed
	for i := range present.rows {
		r := &present.rows[i]
		w := present.of[r.Workload]
		if w.TenantID == 0 {
			byKey[w.Host.Name+"\x00"+w.Key] = r
			unassigned = append(unassigned, tenancy.Weighed{Subject: book.subject(w.Host.Name, w.Core()),
				Used: r.Sums[amount.CPU].Units})
		}
	}
	out := []Suggestion{}
	for _, c := range tenancy.Suggest(unassigned) {
		s := Suggestion{Expression: c.Expression, About: c.About, Workloads: len(c.Members), Examples: []string{}}
		all := question.Row{Sums: slices.Repeat([]question.Sum{question.NoFigure(0)}, amount.NumResources)}
		for i, m := range c.Members {
			for r, sum := range byKey[m.Host+"\x00"+m.Workload.Key].Sums {
				all.Sums[r].Join(&sum)
			}
			if i < 5 {
				s.Examples = append(s.Examples, m.Workload.Name)
			}
		}
		s.Uses = partUses(&all, present.elapsed)
		out = append(out, s)
	}
	return out, nil
}

// Reapplication is what accounting history anew by the rules in force changes, or would change.
type Reapplication struct {
	From    time.Time   `json:"from"`
	To      time.Time   `json:"to"`
	Moves   []TrialMove `json:"moves" doc:"Usage or workloads that change tenant, most CPU time first."`
	Seen    int         `json:"workloads_seen"`
	Preview bool        `json:"preview" doc:"True where nothing was changed."`
}

// Reapply accounts the usage of a span anew by the rules in force, or with preview only tells what that would move.
func (h *Hub) Reapply(ctx context.Context, span question.Span, preview bool) (*Reapplication, error) {
	book, _, err := h.rules(ctx)
	if err != nil {
		return nil, err
	}
	names, err := h.tenantNames(ctx)
	if err != nil {
		return nil, err
	}
	scope, err := h.scope(ctx, span, "")
	if err != nil {
		return nil, err
	}
	used, err := h.store.Ask(ctx, question.Question{Scope: scope, Measures: amount.Resources(),
		By: []question.Dimension{question.Workload, question.Tenant}})
	if err != nil {
		return nil, err
	}
	elapsed, err := h.elapsed(ctx, scope)
	if err != nil {
		return nil, err
	}
	out := &Reapplication{From: span.From, To: span.To, Moves: []TrialMove{}, Preview: preview}
	ids := make([]int64, 0, len(used.Rows))
	for i := range used.Rows {
		ids = append(ids, used.Rows[i].Workload)
	}
	byID, err := h.store.WorkloadsByID(ctx, ids)
	if err != nil {
		return nil, err
	}
	var moves []store.Move
	seen := map[int64]bool{}
	for i := range used.Rows {
		u := &used.Rows[i]
		w, there := byID[u.Workload]
		if !there {
			continue
		}
		rule := book.assign(w.Host.Name, w.Core())
		if !seen[w.ID] {
			seen[w.ID] = true
			moves = append(moves, store.Move{WorkloadID: w.ID, TenantID: rule.TenantID, RuleID: rule.ID,
				Rule: rule.Expression})
		}
		if rule.TenantID == u.Tenant {
			continue
		}
		out.Moves = append(out.Moves, move(&w, named(names, u.Tenant), named(names, rule.TenantID),
			partUses(u, elapsed)))
	}
	out.Seen = len(seen)
	sortMoves(out.Moves)
	if preview || len(out.Moves) == 0 {
		return out, nil
	}
	err = h.store.Reapply(ctx, span, moves, who(ctx), map[string]any{"moves": out.Moves})
	if errors.Is(err, store.ErrUnbalanced) {
		return nil, problem(Conflict, "the books of this span do not add up, so they were not touched: %v", err)
	}
	return out, err
}

func soundTenant(name string) error {
	if name == "" || name != strings.TrimSpace(name) || len(name) > 100 ||
		strings.ContainsFunc(name, func(r rune) bool { return r < ' ' || r == 0x7f || r == '/' }) {
		return problem(
			Invalid,
			"tenant name %q: give 1 to 100 characters, no slash, no control characters, no blank at either end",
			name,
		)
	}
	if strings.EqualFold(name, Unassigned) {
		return problem(Invalid, "%q is the word for usage of no tenant: choose another name", Unassigned)
	}
	return nil
}
