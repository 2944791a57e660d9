package hub

import (
	"context"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/question"
)

// ProgramTotal is what all processes of one program used: the many small ones that add up.
type ProgramTotal struct {
	Program   string    `json:"program" doc:"By its executable; what ended between readings has a line of its own."`
	Processes int       `json:"processes" doc:"The most at the end of an interval in each workload, added."`
	Workloads int       `json:"workloads"`
	Uses      []PartUse `json:"uses" doc:"One per resource, in the order of resources."`
}

// PartUse is what a part of workloads used of one resource.
type PartUse struct {
	Resource string   `json:"resource"`
	Amount   *float64 `json:"amount" doc:"Null where processes are not counted for this resource."`
	Mean     *float64 `json:"mean"`
	Source   string   `json:"source"`
}

// partUses are the uses of a row of all resources over some time.
func partUses(row *question.Row, elapsed int64) []PartUse {
	uses := make([]PartUse, 0, len(row.Sums))
	for i, r := range amount.Resources() {
		sum := &row.Sums[i]
		u := PartUse{Resource: r.String(), Source: sum.Source.String()}
		if sum.Known() {
			a, m := r.Amount(sum.Units, elapsed), r.Mean(sum.Units, elapsed)
			u.Amount, u.Mean = &a, &m
		}
		uses = append(uses, u)
	}
	return uses
}

// Page is which part of a listing is wanted.
type Page struct {
	Sort  string
	First int    // 0 for all
	After string // cursor; "" for the first page
}

// paged puts an order and a page into a question.
func (p *Page) paged(q *question.Question) error {
	var err error
	if q.Order, err = question.ParseOrder(p.Sort); err != nil {
		return problem(Invalid, "%v", err)
	}
	if q.Page.After, err = question.ParseKey(p.After); err != nil {
		return problem(Invalid, "%v", err)
	}
	q.Page.First = p.First
	return nil
}

// Programs adds up every program of a span, most CPU time first. The cursor is that of the next page, "" on the last.
func (h *Hub) Programs(ctx context.Context, q Asked, page Page) (programs []ProgramTotal, next string, err error) {
	scope, err := h.filtered(ctx, &q)
	if err != nil {
		return nil, "", err
	}
	ask := question.Question{Scope: scope, Measures: amount.Resources(), By: []question.Dimension{question.Program}}
	if err := page.paged(&ask); err != nil {
		return nil, "", err
	}
	answer, err := h.store.Ask(ctx, ask)
	if err != nil {
		return nil, "", err
	}
	elapsed, err := h.elapsed(ctx, scope)
	if err != nil {
		return nil, "", err
	}
	programs = []ProgramTotal{}
	for i := range answer.Rows {
		r := &answer.Rows[i]
		x := ProgramTotal{Program: r.Name, Processes: r.Parts, Workloads: r.Workloads, Uses: partUses(r, elapsed)}
		if x.Program == "" {
			x.Program = account.NoProgramName
		}
		programs = append(programs, x)
	}
	return programs, answer.Next.String(), nil
}
