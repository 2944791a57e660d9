package tenancy_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/tenancy"
)

func TestFamily_PartsCountInTheWhole(t *testing.T) {
	// 1 has 2 and 3, 3 has 4; 5 stands alone.
	f := tenancy.Family{1: 0, 2: 1, 3: 1, 4: 3, 5: 0}
	assert.Equal(t, []int32{1, 2, 3, 4}, f.WithParts(1))
	assert.Equal(t, []int32{3, 4}, f.WithParts(3))
	assert.Equal(t, []int32{5}, f.WithParts(5))
	assert.Equal(t, []int32{2, 3}, f.Parts(1))
	for _, c := range []struct {
		tenant, parent int32
		turns          bool
	}{{1, 4, true}, {1, 1, true}, {3, 4, true}, {4, 2, false}, {1, 5, false}, {1, 0, false}, {4, 1, false}} {
		assert.Equal(t, c.turns, f.WouldTurn(c.tenant, c.parent), "%d as a part of %d", c.tenant, c.parent)
	}
	assert.Equal(
		t,
		[]int32{9},
		tenancy.Family{7: 8, 8: 7, 9: 0}.WithParts(9),
		"a circle in the book is no endless way",
	)
}

func TestQuotaUnit_FitsWhatIsLimited(t *testing.T) {
	for name, want := range map[string][2]string{
		"cpu": {"cores", "core_hours"}, "memory": {"bytes", "byte_hours"}, "disk": {"bytes_per_second", "bytes"},
		"gpu": {"gpus", "gpu_hours"}, "energy": {"watts", "kwh"}, "threads": {"count", ""},
		"gpu_devices":      {"count", ""},
		"space_used_bytes": {"bytes", ""},
	} {
		unit, err := tenancy.QuotaUnit(name, false)
		require.NoError(t, err, name)
		assert.Equal(t, want[0], unit, name)
		unit, err = tenancy.QuotaUnit(name, true)
		if want[1] == "" {
			assert.ErrorContains(t, err, "can have a ceiling, and no allowance", name)
			continue
		}
		require.NoError(t, err, name)
		assert.Equal(t, want[1], unit, name)
	}
	_, err := tenancy.QuotaUnit("cpu_wait_us", false)
	assert.ErrorContains(t, err, "choose one of cpu, memory")
}

func TestScopeAndBasis_SayWhatTheyTake(t *testing.T) {
	for _, c := range []struct{ kind, name, text, why string }{
		{"", "", "the fleet", ""}, {"fleet", "", "the fleet", ""}, {"pool", "presses", "pool presses", ""},
		{"host", "press-1", "host press-1", ""}, {"rack", "4", "", "choose fleet, pool or host"},
		{"pool", "", "", "has a name"}, {"fleet", "presses", "", "has none"}, {"", "presses", "", "choose fleet"},
	} {
		s, err := tenancy.ScopeOf(c.kind, c.name)
		if c.why != "" {
			assert.ErrorContains(t, err, c.why)
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, c.text, s.String())
	}
	b, err := tenancy.ParseBasis("")
	require.NoError(t, err)
	assert.Equal(t, tenancy.Used, b)
	_, err = tenancy.ParseBasis("asked")
	assert.ErrorContains(t, err, "choose used, held or greater")

	four := 4.0
	held := tenancy.Limit{Ceiling: &four, Basis: tenancy.Held}
	assert.False(t, held.Equal(tenancy.Limit{Ceiling: &four}))
	assert.True(t, tenancy.Limit{Ceiling: &four, Basis: tenancy.Used}.Equal(tenancy.Limit{Ceiling: &four}))
	assert.False(t, tenancy.Limit{Ceiling: &four, Zone: "UTC"}.Equal(tenancy.Limit{Ceiling: &four}))
	assert.True(t, tenancy.Limit{Basis: tenancy.Held}.Equal(tenancy.Limit{}), "none is none")
}
