package hub_test

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/act"
	"vinescale/core/folio"
	"vinescale/internal/hub"
)

func TestFolios_StepsAreThoseOfSeries(t *testing.T) {
	assert.Equal(t, hub.Steps()[1:], folio.Steps())
}

func TestFolios_AreOfWhoeverMadeThemUnlessShared(t *testing.T) {
	f := newFixture(t)
	_, err := f.SetPools(ctx, "terrace-1", []string{"terraces"})
	require.NoError(t, err)
	as := func(name, role string) context.Context {
		scope := act.Scope{}
		if role == hub.Operator {
			scope.Pools = []string{"terraces"}
		}
		token, err := f.AddToken(ctx, name, role, scope)
		require.NoError(t, err)
		signed, err := f.SignIn(ctx, token)
		require.NoError(t, err)
		return hub.As(ctx, signed)
	}
	vera, otto, adam := as("vera", hub.Reader), as("otto", hub.Operator), as("adam", hub.Administrator)
	page := folio.Folio{Format: 1, Title: "Press night", Rows: []folio.Row{{Plates: []folio.Plate{
		{Of: "cpu", Subject: folio.Subject{Kind: folio.Fleet}, By: "tenant"}}}}}
	names := func(who context.Context) (names []string) {
		lines, err := f.Folios(who)
		require.NoError(t, err)
		for _, l := range lines[len(folio.Shipped()):] {
			names = append(names, fmt.Sprintf("%s %s %v", l.Name, l.Whose, l.CanChange))
		}
		return names
	}
	problem := func(err error, class hub.Class, words string) {
		t.Helper()
		var p *hub.Problem
		require.ErrorAs(t, err, &p)
		assert.Equal(t, class, p.Class)
		assert.ErrorContains(t, err, words)
	}

	own, err := f.AddFolio(vera, page, false)
	require.NoError(t, err)
	assert.Equal(t, []any{"press-night", "own", "vera", true, 1, int64(1), f.now}, []any{own.Name, own.Whose, own.Owner,
		own.CanChange, own.Plates, own.Version, *own.ChangedAt})
	_, err = f.AddFolio(vera, page, true)
	problem(err, hub.Denied, "a reader's folios are their own")
	shared, err := f.AddFolio(otto, page, true)
	require.NoError(t, err)
	assert.Equal(t, "press-night-2", shared.Name, "though otto cannot see the first")
	page.Title = "Fleet"
	copied, err := f.AddFolio(otto, page, false)
	require.NoError(t, err)
	assert.Equal(t, "fleet-2", copied.Name, "fleet is shipped")
	assert.Equal(t, []string{"press-night own true", "press-night-2 shared false"}, names(vera))
	assert.Equal(t, []string{"fleet-2 own true", "press-night-2 shared true"}, names(otto))
	assert.Equal(t, []string{"press-night-2 shared true"}, names(adam))
	_, err = f.Folio(otto, "press-night")
	problem(err, hub.NotFound, "no folio \"press-night\", or it is somebody else's own")
	got, err := f.Folio(vera, "press-night-2")
	require.NoError(t, err)
	assert.Equal(t, shared.Folio, got.Folio)
	fleet, err := f.Folio(vera, "fleet")
	require.NoError(t, err)
	assert.Equal(t, []any{"shipped", false, 5 + 2 + 3 + 1}, []any{fleet.Whose, fleet.CanChange, fleet.Plates})

	_, err = f.ChangeFolio(vera, "press-night-2", page, true, 1)
	problem(err, hub.Denied, "for its maker or an administrator")
	_, err = f.ChangeFolio(vera, "fleet", page, false, 0)
	problem(err, hub.Denied, "comes with the program")
	_, err = f.ChangeFolio(adam, "press-night", page, false, 0)
	problem(err, hub.NotFound, "press-night")
	problem(f.RemoveFolio(vera, "press-night-2"), hub.Denied, "copy it")
	page.About = "When the presses run."
	changed, err := f.ChangeFolio(adam, "press-night-2", page, true, 1)
	require.NoError(t, err)
	assert.Equal(t, []any{int64(2), "otto", "adam", "Fleet", "When the presses run."}, []any{changed.Version,
		changed.Owner, changed.ChangedBy, changed.Title, changed.About})
	_, err = f.ChangeFolio(otto, "press-night-2", page, true, 1)
	problem(err, hub.Conflict, "changed meanwhile")
	page.Rows[0].Plates[0].By = "vat"
	_, err = f.ChangeFolio(otto, "press-night-2", page, true, 2)
	problem(err, hub.Invalid, "row 1, plate 1: by: cannot group by \"vat\"")
	_, err = f.AddFolio(otto, page, false)
	problem(err, hub.Invalid, "row 1, plate 1")

	// Who goes takes along what was theirs, and leaves what they shared.
	require.NoError(t, f.RemoveToken(ctx, "otto"))
	assert.Equal(t, []string{"press-night-2 shared true"}, names(adam))
	left, err := f.Folio(adam, "press-night-2")
	require.NoError(t, err)
	assert.Empty(t, left.Owner)
	page.Rows[0].Plates[0].By = ""
	_, err = f.ChangeFolio(adam, "press-night-2", page, false, 0)
	problem(err, hub.Invalid, "stays shared")
	_, err = f.ChangeFolio(adam, "press-night-2", page, true, 0)
	require.NoError(t, err)
	require.NoError(t, f.RemoveFolio(adam, "press-night-2"))
	require.NoError(t, f.RemoveFolio(vera, "press-night"))
	assert.Empty(t, names(vera))
}

func TestFolios_OfOneVersionOnlyOneChangeIsKept(t *testing.T) {
	f := newFixture(t)
	token, err := f.AddToken(ctx, "vera", hub.Reader, act.Scope{})
	require.NoError(t, err)
	signed, err := f.SignIn(ctx, token)
	require.NoError(t, err)
	vera := hub.As(ctx, signed)
	page := folio.Folio{Format: 1, Title: "Cellar"}
	first, err := f.AddFolio(vera, page, false)
	require.NoError(t, err)
	assert.NotNil(t, first.Folio.Rows)
	var kept atomic.Int32
	var all sync.WaitGroup
	for i := range 8 {
		all.Go(func() {
			mine := page
			mine.About = fmt.Sprint(i)
			if _, err := f.ChangeFolio(vera, "cellar", mine, false, 1); err == nil {
				kept.Add(1)
			}
			_, err := f.AddFolio(vera, page, false)
			assert.NoError(t, err)
		})
	}
	all.Wait()
	assert.EqualValues(t, 1, kept.Load())
	lines, err := f.Folios(vera)
	require.NoError(t, err)
	assert.Len(t, lines, len(folio.Shipped())+9)
	now, err := f.Folio(vera, "cellar")
	require.NoError(t, err)
	assert.EqualValues(t, 2, now.Version)
}
