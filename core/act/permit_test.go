package act_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/act"
)

const somePolicy = `
allow:
  - acts: [pause, continue, weigh]
  - acts: [end]
    kinds: [job, loose]
    tenants: [Frost Watch]
  - acts: [all]
    tenants: [unassigned]
never:
  programs: [nebbiolo-*]
  users: [cellarer]
  workloads: ["bottling*", "service:/system.slice/press.service"]
  units: ["must-*.service"]
`

// TestPolicy_EachCell is every act that the policy tells apart, by kind and tenant.
func TestPolicy_EachCell(t *testing.T) {
	p, err := act.ParsePolicy([]byte(somePolicy))
	require.NoError(t, err)
	for _, verb := range []act.Verb{act.Pause, act.End, act.Cap} {
		for _, kind := range []string{"job", "loose", "container"} {
			for _, tenant := range []string{"Frost Watch", "Leaf Vision", "unassigned"} {
				want := verb == act.Pause || tenant == "unassigned" ||
					verb == act.End && kind != "container" && tenant == "Frost Watch"
				err := p.Decide(verb, &act.Touched{Key: kind + ":x", Name: "x", Kind: kind, Tenant: tenant})
				assert.Equal(t, want, err == nil, "%s %s %s: %v", verb, kind, tenant, err)
				assert.Error(t, (&act.Policy{}).Decide(verb, &act.Touched{Kind: kind, Tenant: tenant}),
					"without a policy nothing is allowed")
			}
		}
	}
	for what, w := range map[string]act.Touched{
		"by name":          {Name: "bottling-line", Kind: "vm", Tenant: "unassigned"},
		"by key with path": {Key: "service:/system.slice/press.service", Name: "press", Tenant: "unassigned"},
		"by unit":          {Key: "unit:must-pump", Name: "must-pump", Unit: "must-pump.service", Tenant: "unassigned"},
	} {
		assert.ErrorContains(t, p.Decide(act.Pause, &w), "never touched", what)
	}
	assert.NotEmpty(t, p.Spares("cellarer", "sh"))
	assert.NotEmpty(t, p.Spares("grape", "sh", "nebbiolo-grid"))
	assert.Empty(t, p.Spares("grape", "sh", ""))
}

func TestParsePolicy_AWordThatIsNotKnownIsAnError(t *testing.T) {
	for text, want := range map[string]string{
		"allow: [{acts: [pauze]}]":              `"pauze" is no act`,
		"allow: [{acts: []}]":                   "names no acts",
		"allow: [{kinds: [job]}]":               "names no acts",
		"allow: [{acts: [end], kind: [job]}]":   "kind",
		"allow: [{acts: [end], kinds: [jobs]}]": "jobs",
		"never: {programs: ['[']}":              "pattern",
		"nevr: {programs: [sh]}":                "nevr",
	} {
		_, err := act.ParsePolicy([]byte(text))
		assert.ErrorContains(t, err, want, text)
	}
	p, err := act.ParsePolicy(nil)
	require.NoError(t, err)
	assert.Error(t, p.Decide(act.Look, &act.Touched{Name: "x", Kind: "loose", Tenant: "unassigned"}))
}

// TestScope_EachCell is every operator's scope by host and tenant.
func TestScope_EachCell(t *testing.T) {
	frost := []string{"Frost Watch"}
	pools := map[string][]string{"press-1": {"presses", "north"}, "terrace-2": {"terraces"}, "login-1": nil}
	for _, x := range []struct {
		scope   act.Scope
		host    string
		tenants []string
		want    bool
	}{
		{act.Scope{}, "login-1", nil, true},
		{act.Scope{}, "login-1", []string{"Leaf Vision"}, true},
		{act.Scope{Pools: []string{"presses"}}, "press-1", []string{"Leaf Vision"}, true},
		{act.Scope{Pools: []string{"presses"}}, "terrace-2", []string{"Leaf Vision"}, false},
		{act.Scope{Pools: []string{"presses"}}, "login-1", nil, false},
		{act.Scope{Pools: []string{"presses"}}, "press-1", nil, true},
		{act.Scope{Tenants: []string{"Frost Watch"}}, "login-1", []string{"Frost Watch"}, true},
		{act.Scope{Tenants: []string{"Frost Watch"}}, "login-1", []string{"Frost Watch", "Leaf Vision"}, false},
		{act.Scope{Tenants: []string{"Frost Watch"}}, "login-1", []string{"unassigned"}, false},
		{act.Scope{Tenants: []string{"Frost Watch"}}, "login-1", nil, false},
		{act.Scope{Tenants: frost, Pools: []string{"north"}}, "press-1", frost, true},
		{act.Scope{Tenants: frost, Pools: []string{"north"}}, "terrace-2", frost, false},
		{act.Scope{Tenants: frost, Pools: []string{"north"}}, "press-1", []string{"Leaf Vision"}, false},
	} {
		err := x.scope.Allows(x.host, pools[x.host], x.tenants)
		assert.Equal(t, x.want, err == nil, "%+v on %s for %v: %v", x.scope, x.host, x.tenants, err)
	}
}
