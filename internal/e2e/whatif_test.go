package e2e

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/internal/api"
	"vinescale/internal/browser"
	"vinescale/internal/hub"
)

// TestWhatIf_PlaysTheDemoAgain by command and in the console.
func TestWhatIf_PlaysTheDemoAgain(t *testing.T) {
	limited := runJSON[api.WhatLimited](t, demo, "whatif", "limit", "weather-cache", "--cpu", "0.01", "--span", "1h")
	assert.Equal(t, limited.Steps, limited.Surely, limited.Sentence)
	assert.Greater(t, *limited.Delay, 60.0)
	page := demo.run("whatif", "limit", "weather-cache", "--memory", "1TiB")
	assert.Contains(t, page.stdout, "would have been touched in none of")
	over := demo.run("whatif", "quota", "Frost Watch", "cpu", "1", "--span", "1h")
	assert.Contains(t, over.stdout, "Frost Watch was above its quota of cpu on all hosts")
	sizes := runJSON[[]hub.SizeAdvice](t, demo, "whatif", "sizes", "--span", "1h")
	at := slices.IndexFunc(
		sizes,
		func(a hub.SizeAdvice) bool { return a.Name == "weigh-bridge" && a.Resource == "cpu" },
	)
	require.GreaterOrEqual(t, at, 0, "it holds eight cores, and uses a quarter of one")
	assert.Equal(t, []any{"less", 8.0}, []any{sizes[at].Way, sizes[at].Held})
	assert.Less(t, sizes[at].Advised, 1.0)
	emptied := demo.run("whatif", "empty", "--percentile", "50", "--spare", "0", "--moves")
	assert.Contains(t, emptied.stdout, "At once could be emptied: ")
	assert.Contains(t, emptied.stdout, "2 GPUs", "a job that has two cards fits nowhere else")
	for _, x := range []struct {
		args []string
		want string
	}{
		{[]string{"empty", "--spare", "95"}, "0 to 0.9"},
		{[]string{"empty", "--pool", "attic"}, `no host is in a pool "attic"`},
		{[]string{"limit", "weather-cache"}, "one of them"},
		{[]string{"limit", "weather-cache", "--cpu", "1", "--memory", "1GiB"}, "one of them"},
		{[]string{"limit", "weather-cache", "--cpu", "lots"}, "give cores"},
		{[]string{"limit", "weather-cache", "--cpu", "0"}, "above 0"},
		{[]string{"limit", "tenant/Frost Watch", "--cpu", "1"}, "a limit is of a workload"},
		{[]string{"quota", "Nobody", "cpu", "1"}, `no tenant "Nobody"`},
		{[]string{"quota", "Frost Watch", "wine", "1"}, "choose one of cpu"},
		{[]string{"quota", "Frost Watch", "cpu", "1", "--host", "attic"}, "no host is"},
		{[]string{"quota", "Frost Watch", "cpu", "1", "--host", "press-1", "--pool", "terraces"}, "choose one"},
		{[]string{"sizes", "--percentile", "101"}, "give 50 to 100"},
		{[]string{"sizes", "--host", "attic"}, `no host "attic"`},
	} {
		r := demo.run(append([]string{"whatif"}, x.args...)...)
		assert.NotZero(t, r.code, x.args)
		assert.Contains(t, r.stderr, x.want, "%v", x.args)
	}
	b := openConsole(t)
	require.NoError(t, b.SignIn(demo.address, demo.token))
	require.NoError(t, b.Go(demo.address+"/plan?view=sizes"))
	require.NoError(t, b.WaitText("weigh-bridge"))
	assert.Empty(t, violations(t, b), "sizes")
	_, err := browser.Eval[bool](
		b,
		`([...document.querySelectorAll('main a')].find(x => x.innerText === 'play it again')
		.click(), true)`,
	)
	require.NoError(t, err)
	require.NoError(t, b.WaitText("in 95 of 100 steps at most"))
	assert.Empty(t, violations(t, b), "another limit")
	require.NoError(t, b.Go(demo.address+"/plan?view=hosts&spare=0&percentile=50"))
	require.NoError(t, b.WaitText("At once could be emptied"))
	assert.Empty(t, violations(t, b), "hosts")
	require.NoError(t, b.Go(demo.address+"/plan?view=quota&holder=Frost%20Watch&of=cpu&limit=1"))
	require.NoError(t, b.WaitText("Single minutes were above for"))
	assert.Empty(t, violations(t, b), "another quota")
}
