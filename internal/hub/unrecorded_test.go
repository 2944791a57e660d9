package hub_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
)

// TestUnrecorded_IsNeverZero asks of a span before the first reading: no figure, no verdict, but the reason.
func TestUnrecorded_IsNeverZero(t *testing.T) {
	const why = "nothing was recorded in this span"
	f := newFixture(t)
	f.tenant("Frost Watch", "owner == 'm.abt'")
	require.NoError(t, f.send(0, job("a", "m.abt")))
	require.NoError(t, f.Declare(ctx, "terrace-1", "0", "Frost Watch"))
	dark, err := f.Span(noon.Add(-2*time.Hour), noon.Add(-time.Hour), 0)
	require.NoError(t, err)

	b, err := f.Balance(ctx, dark, "")
	require.NoError(t, err)
	for _, tenant := range b.Tenants {
		for _, u := range tenant.Uses {
			assert.Nil(t, u.Used, tenant.Tenant)
			assert.Nil(t, u.Peak)
			assert.Nil(t, u.Amount)
			assert.Equal(t, why, u.Reason)
		}
	}
	d, err := f.Disks(ctx, "", dark)
	require.NoError(t, err)
	assert.Equal(t, "Whether storage is the problem is not known: "+why+".", d.Verdict)
	assert.Equal(t, []string{"terrace-1"}, d.Silent)
	l, err := f.Links(ctx, "", dark)
	require.NoError(t, err)
	assert.Nil(t, l.Wire)
	assert.Nil(t, l.IP)
	assert.Nil(t, l.Residual)
	m, err := f.Memory(ctx, "terrace-1", dark)
	require.NoError(t, err)
	assert.Equal(t, []*float64{nil, nil, nil, nil, nil, nil, nil},
		[]*float64{m.Capacity, m.Charged, m.Own, m.Cache, m.Huge, m.Free, m.Residual})
	assert.Equal(t, []string{why}, m.Notes)
	pins, err := f.Pins(ctx, dark, "")
	require.NoError(t, err)
	assert.Equal(t, why, pins[0].Reason)
	g, err := f.AboutHost(ctx, "terrace-1", dark, 0)
	require.NoError(t, err)
	assert.Equal(t, why, g.Reason)

	pins, err = f.Pins(ctx, f.span(), "")
	require.NoError(t, err)
	assert.Empty(t, pins[0].Reason)
	g, err = f.AboutHost(ctx, "terrace-1", f.span(), 0)
	require.NoError(t, err)
	assert.Empty(t, g.Reason)
	assert.InDelta(t, 1, *g.Uses[0].Mean, 1e-9)
}

// TestUnrecorded_OfOneHostIsSaidBesideWhatOthersTell has two hosts, one of them silent.
func TestUnrecorded_OfOneHostIsSaidBesideWhatOthersTell(t *testing.T) {
	f := newFixture(t)
	_, err := f.Enrol(ctx, "orchard-1")
	require.NoError(t, err)
	f.dress = func(iv *account.Interval) {
		iv.Detail.Disks = []account.Disk{{Name: "sda", Major: 8, BusyMillis: 6000}}
		iv.Detail.Interfaces = []account.Interface{{Name: "eth0", Received: 6000}}
	}
	require.NoError(t, f.send(0, job("a", "m.abt")))
	d, err := f.Disks(ctx, "", f.span())
	require.NoError(t, err)
	assert.Equal(t,
		"Storage is not the problem: the busiest device, sda on terrace-1, was busy 10 % of the time. Of orchard-1 "+
			"nothing was recorded.", d.Verdict)
	l, err := f.Links(ctx, "", f.span())
	require.NoError(t, err)
	assert.Equal(t, []string{"orchard-1"}, l.Silent)
	require.NotNil(t, l.Wire)
	assert.InDelta(t, 100, l.Wire.Received, 1e-9)
	l, err = f.Links(ctx, "orchard-1", f.span())
	require.NoError(t, err)
	assert.Nil(t, l.Wire)
}
