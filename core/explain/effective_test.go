package explain

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/cpuset"
)

func TestEffective_WhatKeepsAWorkloadOnSomeCPUs(t *testing.T) {
	host := EffectiveHost{CPUs: 8}
	for cpu := range 8 { // four cores of two threads: 0 and 4 are one
		host.Places = append(host.Places, cpuset.Place{CPU: cpu, Core: cpu % 4, Package: 0})
	}
	type facts = map[string]string
	for name, c := range map[string]struct {
		kind    amount.Kind
		allowed string
		facts   facts
		is      bool
		kept    string
		note    string
		given   string
	}{
		"nothing":   {amount.Service, "0-7", nil, false, "nothing", "", ""},
		"not known": {amount.Service, "", nil, false, "nothing", "", ""},
		"affinity":  {amount.Loose, "2", nil, true, "affinity", "", ""},
		"a cpuset":  {amount.Container, "0-3", facts{account.FactCPUSet: "0-3"}, true, "cpuset", "", ""},
		"affinity in a cpuset": {amount.Container, "0", facts{account.FactCPUSet: "0-3"}, true,
			"both", "its cgroup would let it run on CPUs 0-3, " +
				"and affinity keeps its threads on CPU 0", ""},
		"a partition": {amount.Container, "2-3", facts{account.FactCPUSet: "2-3", account.FactCPUAlone: "isolated"},
			true, "partition", "", ""},
		"a job that is kept where it was given": {amount.Job, "0,4", facts{account.FactCPUsGiven: "0-1"}, true,
			"affinity", "", "0,4"},
		"a job that nothing keeps there": {amount.Job, "0-7", facts{account.FactCPUsGiven: "2-3"}, true, "nothing",
			"a scheduler gave it CPUs 1,5, and nothing keeps it off CPUs 0,2-4,6-7", "1,5"},
		"threads with masks of their own": {amount.Loose, "0-7", facts{account.FactMasks: "0-7; 3 (thread x of y)"},
			true, "nothing", "not all of its threads may run on the same CPUs: 0-7; 3 (thread x of y)", ""},
	} {
		w := account.Workload{Kind: c.kind, Allowed: c.allowed, Facts: c.facts}
		p, alone, is := EffectiveOn(&w, &host)
		assert.Equal(
			t,
			[]any{c.is, c.kept, c.note, c.given},
			[]any{is, p.KeptBy, strings.Join(p.Notes, "; "), p.Given},
			name,
		)
		assert.Equal(t, name == "a partition", alone.Equal(cpuset.Of(2, 3)), name)
	}
}

func TestEffective_VirtualCPUsAsTheyAreAndAsTheManagerWasTold(t *testing.T) {
	host := EffectiveHost{CPUs: 8}
	w := account.Workload{Kind: amount.VM, Allowed: "0-7", Facts: map[string]string{
		account.FactVCPUPins: "0: 2,3; 1: 4; 3: 6", account.FactVCPUMasks: "0: 2-3; 1: 5; 2: 0-7"}}
	p, _, is := EffectiveOn(&w, &host)
	assert.True(t, is)
	assert.Equal(t, []VCPU{{"0", "2-3", "2,3"}, {"1", "5", "4"}, {"2", "0-7", ""}, {"3", "", "6"}}, p.VCPUs)
	assert.Equal(t, []string{"vCPU 1 is to be on CPU 4 and may run on CPU 5"}, p.Notes)

	w.Facts = map[string]string{account.FactVCPUMasks: "0: 0-7; 1: 0-7"}
	p, _, is = EffectiveOn(&w, &host)
	assert.False(t, is, "neither is kept anywhere")
	assert.Empty(t, p.VCPUs)
}

func TestEffective_WhatIsLeftForEverybody(t *testing.T) {
	host := EffectiveHost{CPUs: 8}
	assert.Equal(t, "0,5,7", LeftForAll(&host, "1", cpuset.Of(2, 3), cpuset.Of(3, 4, 6)).String())
	assert.Empty(t, LeftForAll(&EffectiveHost{}, "1", cpuset.Of(2), cpuset.Of(3)).String())
}
