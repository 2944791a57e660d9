package whatif_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/explain"
	"vinescale/core/whatif"
)

// TestWeigh_MovesTimeWhereCPUsAreShort has three containers on two CPUs, and one on others that nothing troubles.
func TestWeigh_MovesTimeWhereCPUsAreShort(t *testing.T) {
	names := func(u explain.User) explain.UserRef {
		return explain.UserRef{WorkloadRef: explain.WorkloadRef{ID: u.Workload,
			Name: map[int64]string{1: "sorter", 2: "vat", 3: "label", 4: "still", 5: "hand"}[u.Workload]}}
	}
	contest := func(minute int, contenders ...explain.Contender) explain.Contest {
		from := noon.Add(time.Duration(minute) * time.Minute)
		return explain.Contest{Host: "press-1", HostCPUs: 4, From: from, To: from.Add(time.Minute),
			Contenders: contenders}
	}
	of := func(id int64, name, weights string, ran, waited float64) explain.Contender {
		return explain.Contender{User: explain.User{Workload: id}, Path: "/machine.slice/" + name, Weights: weights,
			Allowed: "0-1", Ran: ran, Waited: waited, IsTold: true}
	}
	hand := explain.Contender{User: explain.User{Workload: 5}, Allowed: "0-1", Ran: 1}
	still := explain.Contender{User: explain.User{Workload: 4}, Path: "/machine.slice/still", Weights: "100/100",
		Allowed: "2-3", Ran: 100, IsTold: true}
	contests := []explain.Contest{
		contest(
			0,
			of(1, "sorter", "100/100", 40, 60),
			of(2, "vat", "100/100", 40, 60),
			of(3, "label", "100/200", 39, 0),
			hand,
			still,
		),
		contest(1, of(1, "sorter", "100/100", 5, 0), of(2, "vat", "100/100", 10, 0)), // there is room
		contest(2, still),
		contest(3, of(1, "sorter", "100/100", 60, 20), of(2, "vat", "100/100", 60, 20)),
	}
	x, err := whatif.Weigh(explain.User{Workload: 1}, 300, contests, names)
	require.NoError(t, err)
	assert.Equal(t, []any{"press-1", 100.0, 300.0, 60.0, 3, 2, 1}, []any{x.Host, x.Now, x.Weight, x.Step, x.Steps,
		x.Short, x.Untold}, "by hand does not tell for how long it waited")
	assert.Equal(t, []float64{100, 80}, []float64{x.Ran, x.Waited})
	// In the first minute 120 s: label and by hand have what they want, 39 and 1, and 80 are divided. In the last, 120.
	assert.InDelta(t, 100, x.Fair, 1e-9)
	assert.InDelta(t, 60+80, x.Then, 1e-9, "three quarters of 80, and all the 80 that it wants of 120")
	require.Len(t, x.Others, 1)
	assert.Equal(t, "vat", x.Others[0].Name)
	assert.InDeltaSlice(t, []float64{100, 60}, []float64{x.Others[0].Fair, x.Others[0].Then}, 1e-9)
	assert.Equal(
		t,
		"Its CPUs were short in 67 % of the time. A weight of 300 in place of 100 would have given it about "+
			"40 CPU-seconds more in these steps, of 100 CPU-seconds that weights give it now, most of it from vat.",
		x.Sentence,
	)

	less, err := whatif.Weigh(explain.User{Workload: 1}, 50, contests, names)
	require.NoError(t, err)
	assert.Less(t, less.Then, less.Fair)
	assert.Contains(t, less.Sentence, "less in these steps")
	assert.Contains(t, less.Sentence, "most of it for vat.")
	content, err := whatif.Weigh(explain.User{Workload: 3}, 10_000, contests, names)
	require.NoError(t, err)
	assert.Equal(t, []any{200.0, 1, 0}, []any{content.Now, content.Short, len(content.Others)})
	assert.Contains(t, content.Sentence, "It had all that it wanted then")
	back := []explain.Contest{contest(0, of(3, "label", "100/200", 30, 40), of(2, "vat", "100/100", 80, 0))}
	held, err := whatif.Weigh(explain.User{Workload: 3}, 300, back, names)
	require.NoError(t, err)
	assert.Equal(t, "Its CPUs were short in all of the time. It is not its weight that held it back then: by the "+
		"weights as they are it would have had 70 CPU-seconds, and it had 30 CPU-seconds.", held.Sentence)
	idle, err := whatif.Weigh(explain.User{Workload: 4}, 10_000, contests, names)
	require.NoError(t, err)
	assert.Equal(t, []any{2, 0}, []any{idle.Steps, idle.Short})
	assert.Contains(t, idle.Sentence, "would have changed nothing")
	absent, err := whatif.Weigh(explain.User{Workload: 6}, 10, contests, names)
	require.NoError(t, err)
	assert.Equal(t, "Nothing was recorded of it in this span.", absent.Sentence)
	_, err = whatif.Weigh(explain.User{Workload: 5}, 10, contests, names)
	require.ErrorContains(t, err, "hand has no cgroup of its own")
	none, err := whatif.Weigh(explain.User{Workload: 1}, 10, []explain.Contest{contest(0, of(1, "sorter", "100/0", 9,
		200))}, names)
	require.ErrorContains(t, err, "sorter has no cgroup of its own", "%v", none)

	// Of two others the one from whom more is taken comes first, by whichever name.
	two := []explain.Contest{contest(0, of(1, "sorter", "100/100", 40, 80), of(2, "vat", "100/50", 20, 60),
		of(3, "label", "100/150", 60, 60))}
	x, err = whatif.Weigh(explain.User{Workload: 1}, 112.5, two, names)
	require.NoError(t, err)
	require.Len(t, x.Others, 2)
	assert.Equal(t, "label vat", x.Others[0].Name+" "+x.Others[1].Name)
	assert.Contains(t, x.Sentence, "A weight of 112.5 in place of 100 would have")
	assert.Contains(t, x.Sentence, "most of it from label.")
}
