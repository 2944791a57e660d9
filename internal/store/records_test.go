package store_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/act"
	"vinescale/internal/store"
)

func TestRules_KeepTheirOrderWhereverOneIsPutOrTaken(t *testing.T) {
	s, _ := open(t)
	tenant, err := s.AddTenant(ctx, "Frost Watch")
	require.NoError(t, err)
	other, err := s.AddTenant(ctx, "Leaf Vision")
	require.NoError(t, err)
	order := func() string {
		rules, _, err := s.Rules(ctx)
		require.NoError(t, err)
		text := ""
		for i, r := range rules {
			assert.Equal(t, i+1, r.Position)
			text += r.Expression
		}
		return text
	}
	for _, step := range []struct {
		position int
		name     string
		tenant   int32
		want     string
	}{{0, "a", tenant.ID, "a"}, {0, "b", other.ID, "ab"}, {1, "c", tenant.ID, "cab"}, {3, "d", other.ID, "cadb"},
		{99, "e", tenant.ID, "cadbe"}} {
		_, err := s.AddRule(ctx, step.position, step.tenant, step.name)
		require.NoError(t, err)
		assert.Equal(t, step.want, order())
	}
	before := version(t, s)
	require.NoError(t, s.RemoveRule(ctx, 2))
	assert.Equal(t, "cdbe", order())
	assert.Greater(t, version(t, s), before, "whoever knows the old rules can tell")
	assert.ErrorIs(t, s.RemoveRule(ctx, 9), store.ErrNotFound)
	require.NoError(t, s.RemoveTenant(ctx, "Leaf Vision"))
	assert.Equal(t, "ce", order(), "its rules go with a tenant, and the numbers close up")
}

func TestTenants_GetDifferentColoursAsLongAsThereAreSome(t *testing.T) {
	s, _ := open(t)
	seen := map[int16]int{}
	for _, name := range []string{"a", "b", "c", "d", "e", "f", "g", "h", "i"} {
		tenant, err := s.AddTenant(ctx, name)
		require.NoError(t, err)
		seen[tenant.Colour]++
	}
	assert.Len(t, seen, 8)
	assert.Equal(t, 2, seen[1], "the ninth begins again")
	require.NoError(t, s.RemoveTenant(ctx, "c"))
	tenant, err := s.AddTenant(ctx, "c again")
	require.NoError(t, err)
	assert.Equal(t, int16(3), tenant.Colour, "the one that was given back")
	_, err = s.AddTenant(ctx, "a")
	assert.ErrorIs(t, err, store.ErrExists)
}

func TestTokens_OfCollectorsAreReplacedByEnrolmentAlone(t *testing.T) {
	s, h := open(t)
	token, err := s.TokenOf(ctx, "secret")
	require.NoError(t, err)
	assert.Equal(t, h.ID, *token.HostID)
	assert.ErrorIs(t, s.RemoveToken(ctx, token.Name), store.ErrNotFound)
	require.NoError(t, s.Enrol(ctx, h.Name, "another"))
	_, err = s.TokenOf(ctx, "secret")
	assert.ErrorIs(t, err, store.ErrNotFound)
	require.NoError(t, s.AddToken(ctx, "winemaker", "reader", act.Scope{}, "r"))
	assert.ErrorIs(t, s.AddToken(ctx, "winemaker", "reader", act.Scope{}, "other"), store.ErrExists)
	tokens, err := s.Tokens(ctx)
	require.NoError(t, err)
	assert.Len(t, tokens, 2)
}

func TestQuotasAndPins_GoWithTheirTenant(t *testing.T) {
	s, h := open(t)
	tenant, err := s.AddTenant(ctx, "Frost Watch")
	require.NoError(t, err)
	change := func(ceiling, soft float64) error {
		_, err := s.AddQuotaChange(ctx, store.QuotaChange{TenantID: tenant.ID, Resource: "cpu", AppliesAt: noon,
			MadeBy: "winemaker", Reason: "harvest", Ceiling: &ceiling, Soft: &soft})
		return err
	}
	require.NoError(t, change(8, 4))
	require.NoError(t, change(4, 4))
	_, err = s.DeclarePin(
		ctx,
		store.Pin{HostID: h.ID, TenantID: &tenant.ID, CPUs: "2-3", From: noon, MadeBy: "winemaker"},
	)
	require.NoError(t, err)
	quotas, err := s.QuotaChanges(ctx)
	require.NoError(t, err)
	require.Len(t, quotas, 2, "the one before is kept")
	assert.Equal(t, []any{8.0, 4.0, 4.0, "winemaker", "harvest"}, []any{*quotas[0].Ceiling, *quotas[0].Soft,
		*quotas[1].Ceiling, quotas[1].MadeBy, quotas[1].Reason})
	assert.True(t, noon.Equal(quotas[1].AppliesAt))
	assert.WithinDuration(t, time.Now(), quotas[1].MadeAt, time.Minute)
	pins, err := s.Pins(ctx)
	require.NoError(t, err)
	require.Len(t, pins, 1)
	assert.Equal(t, []string{"2-3", "cellar-1", "Frost Watch"},
		[]string{pins[0].CPUs, pins[0].Host.Name, pins[0].Tenant.Name})
	assert.Error(t, change(-1, -2), "the books themselves refuse a quota below zero")
	assert.Error(t, change(4, 5), "and a soft mark above the ceiling")
	require.NoError(t, s.RemoveTenant(ctx, "Frost Watch"))
	quotas, err = s.QuotaChanges(ctx)
	require.NoError(t, err)
	assert.Empty(t, quotas)
	pins, err = s.Pins(ctx)
	require.NoError(t, err)
	assert.Empty(t, pins)
}
