package hub_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/tenancy"
	"vinescale/internal/hub"
)

// held is a book with something of everything that a file may hold.
func held(t *testing.T) *fixture {
	f := newFixture(t)
	f.tenant("Frost Watch", "owner == 'm.abt'")
	f.tenant("Leaf Vision", "owner == 't.fink'")
	_, err := f.AddTenant(ctx, "Vineyard Research")
	require.NoError(t, err)
	require.NoError(t, f.send(0, job("a", "m.abt")))
	require.NoError(t, f.SetParent(ctx, "Frost Watch", "Vineyard Research"))
	require.NoError(t, f.SetParent(ctx, "Leaf Vision", "Vineyard Research"))
	f.order("Vineyard Research", "cpu", 6, nil)
	f.order("Frost Watch", "cpu", 4, nil)
	f.order("Leaf Vision", "cpu", 3, func(o *hub.QuotaOrder) { o.IsBeyond = true })
	f.order("Frost Watch", "memory", 1<<30, func(o *hub.QuotaOrder) {
		o.ScopeKind, o.ScopeOn, o.Limit.Basis, o.Reason = "host", "terrace-1", tenancy.Greater, "frost"
	})
	f.order("Frost Watch", "energy", 40, func(o *hub.QuotaOrder) { o.Window, o.Limit.Zone = "week", "Europe/Vienna" })
	f.declare("terrace-1", "0-1", "Frost Watch")
	_, err = f.Declare(ctx, &hub.PinOrder{Host: "terrace-1", CPUs: "2", Kind: "workload", Holder: "a", IsShared: true,
		From: noon, Until: noon.AddDate(0, 1, 0)})
	require.NoError(t, err)
	return f
}

func TestImport_QuotasAndPinsTheSameAgainChangeNothing(t *testing.T) {
	f := held(t)
	has, err := f.Export(ctx)
	require.NoError(t, err)
	require.Len(t, has.Quotas, 5)
	require.Len(t, has.Pins, 2)
	assert.Equal(t, []hub.PartText{{Tenant: "Frost Watch", Of: "Vineyard Research"},
		{Tenant: "Leaf Vision", Of: "Vineyard Research"}}, has.Parts)
	assert.True(t, has.Quotas[3].Beyond, "a file that was made says what is more than its whole leaves")
	same, err := f.Import(ctx, f.span(), has, false, false)
	require.NoError(t, err)
	assert.False(t, same.Changed, "%+v", same)
	bare, err := f.Import(ctx, f.span(), &hub.Tenancy{Tenants: has.Tenants, Rules: has.Rules}, false, false)
	require.NoError(t, err)
	assert.False(t, bare.Changed, "a file without quotas leaves them as they are")
	changes, err := f.QuotaChanges(ctx, "", "")
	require.NoError(t, err)
	assert.Len(t, changes, 5)
}

func TestImport_PutsQuotasAndPinsInForceAndEndsOthers(t *testing.T) {
	f := held(t)
	file, err := f.Export(ctx)
	require.NoError(t, err)
	five, two := 5.0, 2.0
	file.Tenants = append(file.Tenants, "Soil Survey")
	file.Parts = []hub.PartText{{Tenant: "Soil Survey", Of: "Vineyard Research"},
		{Tenant: "Leaf Vision", Of: "Vineyard Research"}}
	file.Quotas = []hub.QuotaText{{Tenant: "Frost Watch", Of: "cpu", Ceiling: &five, Unit: "cores"},
		{Tenant: "Soil Survey", Of: "cpu", Ceiling: &two}, {Tenant: "Vineyard Research", Of: "cpu", Ceiling: &five}}
	file.Pins = []hub.PinText{{Host: "terrace-1", CPUs: "0x7", Tenant: "Frost Watch"},
		{Host: "terrace-1", CPUs: "5", Tenant: "Soil Survey"}}
	preview, err := f.Import(ctx, f.span(), file, false, true)
	require.NoError(t, err)
	assert.True(t, preview.Changed)
	done, err := f.Import(ctx, f.span(), file, false, false)
	require.NoError(t, err)
	assert.Equal(t, []any{preview.Quotas, preview.Pins, preview.Parts}, []any{done.Quotas, done.Pins, done.Parts})
	assert.Equal(t, []string{"Soil Survey becomes a part of Vineyard Research", "Frost Watch becomes a part of none"},
		done.Parts)
	assert.Len(t, done.Quotas, 6, "three in force, three ended: %v", done.Quotas)
	assert.Equal(t, []string{"declared: CPUs 0-2 of terrace-1 for Frost Watch",
		"declared: CPUs 5 of terrace-1 for Soil Survey", "ends: CPUs 2 of terrace-1 for a"}, done.Pins)
	now, err := f.Export(ctx)
	require.NoError(t, err)
	assert.Len(t, now.Quotas, 3)
	assert.Len(t, now.Pins, 2)
	assert.Equal(t, "0-2", now.Pins[0].CPUs)
	again, err := f.Import(ctx, f.span(), file, false, false)
	require.NoError(t, err)
	assert.False(t, again.Changed, "%+v", again)
	all, err := f.Declared(ctx, "")
	require.NoError(t, err)
	assert.Len(t, all, 4, "what ended stays in the book")

	file.Quotas, file.Pins, file.Parts = []hub.QuotaText{}, []hub.PinText{}, []hub.PartText{}
	_, err = f.Import(ctx, f.span(), file, false, false)
	require.NoError(t, err)
	now, err = f.Export(ctx)
	require.NoError(t, err)
	assert.Equal(t, []int{0, 0, 0}, []int{len(now.Quotas), len(now.Pins), len(now.Parts)}, "empty lists are none")
}

func TestImport_SaysWhatIsWrongBeforeItWritesAnything(t *testing.T) {
	f := held(t)
	four := 4.0
	for why, change := range map[string]func(x *hub.Tenancy){
		"does not name": func(x *hub.Tenancy) {
			x.Quotas = append(x.Quotas, hub.QuotaText{Tenant: "Nobody", Of: "cpu", Ceiling: &four})
		},
		"one of cpu is in cores": func(x *hub.Tenancy) { x.Quotas[0].Unit = "bytes" },
		"give one":               func(x *hub.Tenancy) { x.Quotas = append(x.Quotas, x.Quotas[1]) },
		"beyond: true":           func(x *hub.Tenancy) { x.Quotas[3].Beyond = false },
		"go in a circle": func(x *hub.Tenancy) {
			x.Parts = append(x.Parts, hub.PartText{Tenant: "Vineyard Research", Of: "Frost Watch"})
		},
		"part of two": func(x *hub.Tenancy) {
			x.Parts = append(x.Parts, hub.PartText{Tenant: "Frost Watch", Of: "Leaf Vision"})
		},
		"neither a ceiling": func(x *hub.Tenancy) { x.Quotas[0].Ceiling = nil },
		"does not exist":    func(x *hub.Tenancy) { x.Quotas[2].Zone = "Middle/Earth" },
		"has 2 holders":     func(x *hub.Tenancy) { x.Pins[0].Rule = "true" },
		"has 0 holders":     func(x *hub.Tenancy) { x.Pins[0].Tenant = "" },
		"runs backwards":    func(x *hub.Tenancy) { x.Pins[0].CPUs = "3-1" },
		"has CPUs 0 to 7":   func(x *hub.Tenancy) { x.Pins[0].CPUs = "99" },
		"no host":           func(x *hub.Tenancy) { x.Pins[0].Host = "press-9" },
		"as one before it":  func(x *hub.Tenancy) { x.Pins = append(x.Pins, x.Pins[0]) },
		"on host terrace-1 and on pool x": func(x *hub.Tenancy) {
			for i := range x.Quotas {
				if x.Quotas[i].Host != "" {
					x.Quotas[i].Pool = "x"
				}
			}
		},
	} {
		file, err := f.Export(ctx)
		require.NoError(t, err)
		before := *file
		file.Tenants = append([]string{"Soil Survey"}, file.Tenants...)
		change(file)
		_, err = f.Import(ctx, f.span(), file, false, false)
		if assert.Error(t, err, why) {
			assert.Contains(t, err.Error(), why)
		}
		after, err := f.Export(ctx)
		require.NoError(t, err)
		assert.Equal(t, before.Tenants, after.Tenants, "%s: nothing is half-written", why)
		assert.Len(t, after.Quotas, 5)
		assert.Len(t, after.Pins, 2)
	}
}
