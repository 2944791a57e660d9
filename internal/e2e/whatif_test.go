package e2e

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/whatif"
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
	pinned := runJSON[whatif.Pinned](t, demo, "whatif", "pins", "press-1", "2-5", "Leaf Vision", "--span", "1h")
	require.NotNil(t, pinned.Others)
	assert.Equal(t, []int{4, 11}, []int{pinned.Theirs.CPUs, pinned.Others.CPUs}, "nine are declared for others alone")
	assert.Positive(t, pinned.Theirs.Over, pinned.Sentence)
	require.NotEmpty(t, pinned.Movers)
	heavier := runJSON[whatif.Weighed](t, demo, "whatif", "weight", "label-render", "300", "--span", "2h")
	assert.Equal(t, []any{"press-1", 100.0, 300.0}, []any{heavier.Host, heavier.Now, heavier.Weight})
	assert.Positive(t, heavier.Steps)
	assert.GreaterOrEqual(t, heavier.Then, heavier.Fair-1e-6, "more weight takes nothing away")
	page = demo.run("whatif", "weight", "label-render", "300", "--span", "2h")
	assert.Contains(t, page.stdout, "label-render of Label Press\nIts CPUs were short in ")
	emptied := demo.run("whatif", "empty", "--percentile", "50", "--spare", "0", "--moves")
	assert.Contains(t, emptied.stdout, "At once could be emptied: ")
	assert.Contains(t, emptied.stdout, "2 GPUs", "a job that has two cards fits nowhere else")
	placed := runJSON[[]whatif.Fit](t, demo, "whatif", "place", "weather-cache", "--percentile", "50", "--spare", "0")
	there := slices.IndexFunc(placed, func(f whatif.Fit) bool { return f.IsThere })
	require.GreaterOrEqual(t, there, 0)
	assert.Equal(t, "terrace-2", placed[there].Host)
	changed := runJSON[whatif.Changed](
		t,
		demo,
		"whatif",
		"hosts",
		"--without",
		"terrace-2,cellar-1",
		"--add",
		"2",
		"--cpus",
		"64",
		"--memory",
		"512GiB",
		"--gpus",
		"4", // by day no host that stays has both a card and the cores of the job that has one
	)
	assert.True(t, changed.CanBe, changed.Sentence)
	assert.Equal(t, changed.Before.Hosts, changed.After.Hosts, "two went, and two came")
	assert.NotEmpty(t, changed.Moves)
	require.NotNil(t, changed.Needed)
	for _, g := range runJSON[[]whatif.Fill](t, demo, "whatif", "growth", "--span", "7d") {
		assert.Contains(t, g.Sentence, "growth is told from 3 on", "two hours were recorded")
	}
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
		{[]string{"pins", "press-1", "14-15", "Leaf Vision"}, "declared for another alone"},
		{[]string{"pins", "press-1", "2,x", "Leaf Vision"}, "is not a CPU number"},
		{[]string{"pins", "press-1", "2"}, "whose are the CPUs"},
		{[]string{"weight", "label-render", "heavy"}, "is no weight"},
		{[]string{"weight", "label-render", "0"}, "give 1 to 10000"},
		{[]string{"weight", "tenant/Frost Watch", "10"}, "a weight is of a workload"},
		{[]string{"sizes", "--percentile", "101"}, "give 50 to 100"},
		{[]string{"place"}, "say what is to be placed"},
		{[]string{"place", "tenant/Frost Watch"}, "a workload is placed"},
		{[]string{"place", "--cpus", "-1"}, "give numbers from 0"},
		{[]string{"hosts"}, "say what would be otherwise"},
		{[]string{"hosts", "--without", "attic"}, `no host "attic"`},
		{[]string{"hosts", "--add", "2", "--cpus", "4"}, "give its CPUs and its memory"},
		{[]string{"growth", "--pool", "attic"}, `no host is in a pool "attic"`},
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
	require.NoError(t, b.Go(demo.address+"/plan?view=pins&holder=Leaf+Vision&host=press-1&list=%222-5%22"))
	require.NoError(t, b.WaitText("Who would have had to run elsewhere"))
	assert.Empty(t, violations(t, b), "other pins")
	require.NoError(t, b.Go(fmt.Sprintf("%s/plan?view=weight&workload=%d&limit=300&span=2h", demo.address,
		limited.Workload.ID)))
	require.NoError(t, b.WaitText("weather-cache"))
	require.NoError(t, b.WaitText("Its CPUs were short in"))
	assert.Empty(t, violations(t, b), "another weight")
	require.NoError(t, b.Go(demo.address+"/plan?view=hosts&spare=0&percentile=50"))
	require.NoError(t, b.WaitText("At once could be emptied"))
	assert.Empty(t, violations(t, b), "hosts")
	require.NoError(t, b.Go(demo.address+"/plan?view=hosts&without=terrace-2&add=1&cores=64&gib=512&spare=0"))
	require.NoError(t, b.WaitText("would move"))
	assert.Empty(t, violations(t, b), "a host goes, and one comes")
	require.NoError(t, b.Go(demo.address+"/plan?view=place&cores=1&gib=1&spare=0&percentile=50"))
	require.NoError(t, b.WaitText("would fit best on"))
	assert.Empty(t, violations(t, b), "a place")
	require.NoError(t, b.Go(demo.address+"/plan?view=growth"))
	require.NoError(t, b.WaitText("after Theil and Sen"))
	assert.Empty(t, violations(t, b), "growth")
	require.NoError(t, b.Go(demo.address+"/plan?view=quota&holder=Frost%20Watch&of=cpu&limit=1"))
	require.NoError(t, b.WaitText("Single minutes were above for"))
	assert.Empty(t, violations(t, b), "another quota")
}
