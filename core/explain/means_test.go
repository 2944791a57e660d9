package explain_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/question"
)

func TestHowGood_SaysHowHowFinelyAndWhatIsMissed(t *testing.T) {
	for want, a := range map[string]account.Ability{
		"the kernel's own counter": {How: "the kernel's own counter", Source: "counted"},
		"by threads; told to 10 ms; can miss what ended; not better: it is off": {How: "by threads",
			Resolution: "10 ms", Misses: "what ended", Why: "it is off", Source: "summed"},
		"because it is off": {Why: "it is off", Source: "unavailable"},
	} {
		assert.Equal(t, want, explain.HowGood(&a))
	}
}

func means(timeOnCPUs, disk string) *account.Inventory {
	return &account.Inventory{Counting: []account.Ability{
		{What: account.TimeOnCPUs, Of: "cpu", Source: timeOnCPUs},
		{What: "CPU time of a cgroup", Of: "cpu", Whose: account.OfCgroups, Source: "counted"},
		{What: "CPU time of others", Of: "cpu", Whose: account.OfOthers, Source: "summed"},
		{What: "disk", Of: "disk", Whose: account.OfCgroups, Source: disk},
	}}
}

func TestMeansFor_AreThoseOfAKindOfWorkload(t *testing.T) {
	inv := means("counted", "counted")
	assert.Equal(t, inv.Counting[1:3], explain.MeansOf(inv, amount.CPU))
	assert.Equal(t, inv.Counting[1:2], explain.MeansFor(inv, amount.CPU, amount.Container))
	assert.Equal(t, inv.Counting[2:3], explain.MeansFor(inv, amount.CPU, amount.Loose))
	assert.Empty(t, explain.MeansFor(inv, amount.Disk, amount.Loose))
	assert.Empty(t, explain.MeansOf(nil, amount.CPU), "an older collector tells none")
}

func TestWhyNegative_NamesTheCauseThatIsThere(t *testing.T) {
	line := func(units float64) question.Line { return question.Line{Units: units} }
	lines := func(steal float64) *question.Lines {
		return &question.Lines{Used: line(100), Kernel: line(10), Steal: line(steal)}
	}
	exact, files := means("counted", "counted"), means("summed", "summed")
	for _, x := range []struct {
		r      amount.Resource
		shares float64
		steal  float64
		hosts  []*account.Inventory
		want   string
	}{
		{amount.CPU, 90, 0, []*account.Inventory{files}, ""},
		{amount.CPU, 91, 0, []*account.Inventory{files}, "steps of 10 ms"},
		{amount.CPU, 91, 5, []*account.Inventory{exact}, "steps of 10 ms"},
		{amount.CPU, 91, 5, []*account.Inventory{exact, files}, "what the hypervisor took is in two"},
		{amount.CPU, 91, 5, []*account.Inventory{nil}, "what the hypervisor took is in two"},
		{amount.Memory, 91, 0, []*account.Inventory{exact}, "some pages ahead"},
		{amount.Disk, 91, 0, []*account.Inventory{exact}, "when they are issued"},
		{amount.Disk, 91, 0, []*account.Inventory{exact, files}, "when pages are made dirty"},
		{amount.Network, 91, 0, nil, "dropped before it leaves"},
	} {
		got := explain.WhyNegative(x.r, lines(x.steal), x.shares, x.hosts)
		if x.want == "" {
			assert.Empty(t, got)
		}
		assert.Contains(t, got, x.want)
	}
	assert.Empty(
		t,
		explain.WhyNegative(amount.CPU, &question.Lines{Used: question.Line{Reason: "not told"}}, 9, nil),
	)
}
