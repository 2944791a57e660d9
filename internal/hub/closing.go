package hub

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"github.com/shopspring/decimal"

	"vinescale/core/amount"
	"vinescale/core/statement"
	"vinescale/internal/store"
)

// TariffInForce is the tariff that new statements are made by, and how it came about.
type TariffInForce struct {
	statement.Tariff
	Version int64
	Reason  string
	MadeBy  string
	MadeAt  *time.Time // nil where none was ever set
}

// Tariff is the tariff in force.
func (h *Hub) Tariff(ctx context.Context) (TariffInForce, error) {
	all, err := h.store.Tariffs(ctx)
	if err != nil || len(all) == 0 {
		usual, _ := (&statement.Tariff{}).Check() // which is sound
		return TariffInForce{Tariff: usual}, err
	}
	at := all[0].MadeAt.UTC()
	return TariffInForce{all[0].Value, all[0].Version, all[0].Reason, all[0].MadeBy, &at}, nil
}

func (h *Hub) tariff(ctx context.Context) (statement.Tariff, int64, error) {
	t, err := h.Tariff(ctx)
	return t.Tariff, t.Version, err
}

// tariffs are all that were ever in force, by version; 0 is the one before any was set.
func (h *Hub) tariffs(ctx context.Context) (map[int64]statement.Tariff, error) {
	usual, _ := (&statement.Tariff{}).Check() // which is sound
	byVersion := map[int64]statement.Tariff{0: usual}
	all, err := h.store.Tariffs(ctx)
	for i := range all {
		byVersion[all[i].Version] = all[i].Value
	}
	return byVersion, err
}

// SetTariff puts a tariff in force for windows that are not closed. It returns false where it says what is in force.
func (h *Hub) SetTariff(ctx context.Context, t *statement.Tariff, reason string) (bool, error) {
	given := *t
	given.Zone = cmp.Or(t.Zone, h.usualZone())
	clean, err := given.Check()
	if err != nil {
		return false, problem(Invalid, "%v", err)
	}
	if len(reason) > longestReason {
		return false, problem(Invalid, "a reason of %d bytes: give at most %d", len(reason), longestReason)
	}
	tenants, err := h.store.Tenants(ctx)
	if err != nil {
		return false, err
	}
	for name := range clean.Shares {
		isThere := slices.ContainsFunc(tenants, func(x store.Tenant) bool { return x.Name == name })
		if !isThere && name != statement.Unassigned {
			return false, problem(
				NotFound,
				"shares of %q: there is no such tenant; vinescale tenant list lists them",
				name,
			)
		}
	}
	before, version, err := h.tariff(ctx)
	if err != nil {
		return false, err
	}
	if version != 0 && isSameTariff(&before, &clean) {
		return false, nil
	}
	last, is, err := h.store.LastClosed(ctx)
	if err != nil {
		return false, err
	}
	if is {
		if from, _ := clean.At(last.WindowTo); !from.Equal(last.WindowTo) {
			return false, problem(Conflict, "the last closed window ends at %s, and by this tariff one begins at %s: "+
				"windows must follow each other; choose a window and a zone that begin one then",
				last.WindowTo.UTC().Format(time.RFC3339), from.Format(time.RFC3339))
		}
	}
	return true, h.store.AddTariff(ctx, &store.Tariff{Value: clean, Reason: reason, MadeBy: who(ctx),
		MadeAt: h.options.Now()})
}

func isSameTariff(a, b *statement.Tariff) bool {
	same := a.Window == b.Window && a.Zone == b.Zone && a.Currency == b.Currency && a.Split == b.Split &&
		a.Label == b.Label && a.KeepIdle == b.KeepIdle
	same = same && len(a.Shares) == len(b.Shares)
	for name, n := range a.Shares {
		same = same && b.Shares[name] == n
	}
	return same && slices.EqualFunc(a.Prices, b.Prices, func(x, y statement.Price) bool {
		return x.Of == y.Of && x.From == y.From && x.Until == y.Until && x.Price.Equal(y.Price)
	})
}

// CloseWindow closes a window: its statements are numbered and sealed, and never change again.
func (h *Hub) CloseWindow(ctx context.Context, window string) (*statement.Account, error) {
	if strings.TrimSpace(window) == "" || window == "this" {
		return nil, problem(Invalid, "say which window is to be closed: last, a month such as 2026-10, or a day in it")
	}
	tariff, version, err := h.tariff(ctx)
	if err != nil {
		return nil, err
	}
	from, to, err := h.window(&tariff, window)
	if err != nil {
		return nil, err
	}
	if now := h.options.Now(); to.After(now) {
		return nil, problem(Conflict, "the window %s is open until %s: it can be closed then", tariff.Name(from),
			to.Format(time.RFC3339))
	}
	last, isAny, err := h.store.LastClosed(ctx)
	if err != nil {
		return nil, err
	}
	switch {
	case isAny && from.Before(last.WindowTo):
		return nil, problem(Conflict, "the window %s is closed, or one after it is: a closed statement never changes; "+
			"what is wrong with it becomes a line of the next one (vinescale statement correct)", tariff.Name(from))
	case isAny && !from.Equal(last.WindowTo):
		next, _ := tariff.At(last.WindowTo)
		return nil, problem(
			Conflict,
			"windows are closed in order, and %s is the next: close it first",
			tariff.Name(next),
		)
	}
	a, corrections, err := h.draft(ctx, &tariff, from, to)
	if err != nil {
		return nil, err
	}
	if err := a.Check(); err != nil {
		return nil, problem(Conflict, "nothing was closed, since the account does not balance: %v", err)
	}
	if !isAny && len(a.Statements) == 1 && len(a.Statements[0].Lines) == 0 {
		return nil, problem(Conflict, "nothing was recorded in %s: there is nothing to close", a.Window)
	}
	number, follows := last.Number, last.Hash
	rows := make([]store.Statement, len(a.Statements))
	for i := range a.Statements {
		s := &a.Statements[i]
		number++
		s.Seal(number, h.options.Now(), who(ctx), follows)
		follows = s.Hash
		rows[i] = store.Statement{
			Number:     number,
			Tenant:     s.Tenant,
			WindowName: s.Window,
			WindowFrom: from,
			WindowTo:   to,
			Hash:       s.Hash,
			Value:      *s,
		}
		if version != 0 {
			rows[i].Tariff = &version
		}
	}
	err = h.store.CloseWindow(ctx, last.Number, rows, corrections)
	if errors.Is(err, store.ErrClosed) {
		return nil, problem(Conflict, "somebody else closed a window just now: look at it, and try again")
	}
	return a, err
}

// Statements lists closed statements without their lines: of a tenant, or all (""), the newest first.
func (h *Hub) Statements(ctx context.Context, tenant string) ([]statement.Statement, error) {
	rows, err := h.store.Statements(ctx, &store.StatementsOf{Tenant: tenant, NoLines: true})
	list := []statement.Statement{}
	for i := range slices.Backward(rows) {
		s := rows[i].Value
		s.Lines = []statement.Line{}
		list = append(list, s)
	}
	return list, err
}

// Statement is a closed statement by its number, with what grew since the window before.
func (h *Hub) Statement(ctx context.Context, number int64) (*statement.Statement, []statement.Growth, error) {
	rows, err := h.store.Statements(ctx, &store.StatementsOf{ByNumber: []int64{number}})
	if err != nil {
		return nil, nil, err
	}
	if len(rows) == 0 {
		return nil, nil, problem(NotFound, "there is no statement %d: \"vinescale statement list\" lists them", number)
	}
	s := &rows[0].Value
	growth, err := h.Growth(ctx, s)
	return s, growth, err
}

// StatementOf is a tenant's statement of a window, closed or a draft, with what grew since the window before.
func (h *Hub) StatementOf(
	ctx context.Context,
	tenant, window string,
) (*statement.Statement, []statement.Growth, error) {
	a, err := h.Account(ctx, window)
	if err != nil {
		return nil, nil, err
	}
	at := slices.IndexFunc(a.Statements, func(s statement.Statement) bool { return s.Tenant == tenant })
	if at < 0 {
		if tenant != Unassigned {
			if _, err := h.Tenant(ctx, tenant); err != nil {
				return nil, nil, err
			}
		}
		return nil, nil, problem(NotFound, "%s has no statement for %s: it used nothing", tenant, a.Window)
	}
	s := &a.Statements[at]
	growth, err := h.Growth(ctx, s)
	return s, growth, err
}

// Growth compares a statement with that of the same tenant for the window before, where that was closed.
func (h *Hub) Growth(ctx context.Context, s *statement.Statement) ([]statement.Growth, error) {
	rows, err := h.store.Statements(ctx, &store.StatementsOf{Tenant: s.Tenant})
	if err != nil {
		return nil, err
	}
	at := slices.IndexFunc(rows, func(x store.Statement) bool { return x.WindowTo.Equal(s.From) })
	if at < 0 {
		return statement.Compare(s, nil), nil
	}
	return statement.Compare(s, &rows[at].Value), nil
}

// Correct keeps a correction of a closed statement: a line of the next one.
func (h *Hub) Correct(ctx context.Context, c *statement.Correction) (statement.Correction, error) {
	none := statement.Correction{}
	r, err := amount.ParseResource(c.Resource)
	if err != nil {
		return none, problem(Invalid, "%v", err)
	}
	if c.Reason = strings.TrimSpace(c.Reason); c.Reason == "" || len(c.Reason) > longestReason {
		return none, problem(
			Invalid,
			"say why, in at most %d bytes: a correction stands in a statement with its reason",
			longestReason,
		)
	}
	if c.Quantity.IsZero() && (c.Cost == nil || c.Cost.IsZero()) {
		return none, problem(Invalid, "a correction of nothing: give an amount, a cost, or both")
	}
	for _, x := range []decimal.Decimal{c.Quantity, orZero(c.Cost)} {
		if !statement.Sound(x) || x.Abs().GreaterThan(decimal.New(1, 15)) {
			return none, problem(Invalid, "give an amount of at most 10^15, with up to 12 digits behind the point")
		}
	}
	rows, err := h.store.Statements(ctx, &store.StatementsOf{ByNumber: []int64{c.Corrects}})
	if err != nil {
		return none, err
	}
	if len(rows) == 0 {
		return none, problem(
			NotFound,
			"there is no closed statement %d to correct: \"vinescale statement list\" lists them",
			c.Corrects,
		)
	}
	s := &rows[0].Value
	if c.Cost != nil && s.Currency == "" {
		return none, problem(Invalid, "statement %d has no currency: only an amount can be corrected", c.Corrects)
	}
	if c.Cost == nil { // at the price at which its window ended
		tariffs, err := h.tariffs(ctx)
		if err != nil {
			return none, err
		}
		tariff := tariffs[0]
		if rows[0].Tariff != nil {
			tariff = tariffs[*rows[0].Tariff]
		}
		if price := tariff.PriceOf(c.Resource, s.To.Add(-time.Second)); price != nil {
			cost := price.Mul(c.Quantity)
			c.Cost = &cost
		}
	}
	c.Unit, _ = r.Priced()
	c.Tenant, c.MadeBy, c.MadeAt, c.In = s.Tenant, who(ctx), h.options.Now().UTC(), 0
	row := store.Correction{Corrects: c.Corrects, Tenant: s.Tenant, Value: *c}
	err = h.store.AddCorrection(ctx, &row)
	made := row.Value
	made.ID = row.ID
	return made, err
}

func orZero(d *decimal.Decimal) decimal.Decimal {
	if d == nil {
		return decimal.Zero
	}
	return *d
}

// Corrections lists all corrections, the first first.
func (h *Hub) Corrections(ctx context.Context) ([]statement.Correction, error) {
	rows, err := h.store.Corrections(ctx, false)
	list := []statement.Correction{}
	for i := range rows {
		c := rows[i].Value
		c.ID = rows[i].ID
		if rows[i].InStatement != nil {
			c.In = *rows[i].InStatement
		}
		list = append(list, c)
	}
	return list, err
}

// RemoveCorrection takes back a correction that is no line of a statement yet.
func (h *Hub) RemoveCorrection(ctx context.Context, id int64) error {
	err := h.store.RemoveCorrection(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return problem(
			NotFound,
			"no correction %d waits for a statement: what is in one stays, and is corrected by another",
			id,
		)
	}
	return err
}

// VerifyStatements holds every closed statement against its hash, and against the one before it. It returns how many
// there are; the error names the first that is not as it was closed.
func (h *Hub) VerifyStatements(ctx context.Context) (int, error) {
	rows, err := h.store.Statements(ctx, &store.StatementsOf{})
	if err != nil {
		return 0, err
	}
	follows := ""
	for i := range rows {
		if err := rows[i].Value.Verify(follows); err != nil {
			return len(rows), problem(Conflict, "%v", err)
		}
		if rows[i].Value.Number != int64(i)+1 {
			return len(rows), problem(Conflict, "statement %d is missing", i+1)
		}
		follows = rows[i].Hash
	}
	return len(rows), nil
}
