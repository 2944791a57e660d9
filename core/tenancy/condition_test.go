package tenancy

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
)

func TestCondition_AsksAboutAWorkloadAndWhatItUsed(t *testing.T) {
	c, err := CompileCondition(
		"kind == 'loose' && 'login' in pools && (cpu_cores_mean > 4.0 || memory_bytes_mean >= 1e9)",
	)
	require.NoError(t, err)
	assert.Equal(t, []amount.Measure{amount.CPU, amount.Memory}, c.Measures())
	loose := Subject{Host: "login-1", Pools: []string{"login"}, Workload: account.Workload{Kind: amount.Loose}}
	elsewhere, job := loose, loose
	elsewhere.Pools = nil
	job.Workload.Kind = amount.Job
	used := func(cores, bytes float64) map[amount.Measure]float64 {
		return map[amount.Measure]float64{amount.CPU: cores, amount.Memory: bytes}
	}
	assert.True(t, c.Holds(loose, used(4.01, 0)))
	assert.False(t, c.Holds(loose, used(4, 0)), "above is above")
	assert.True(t, c.Holds(loose, used(0, 1e9)))
	assert.False(t, c.Holds(elsewhere, used(9, 0)))
	assert.False(t, c.Holds(job, used(9, 0)))
	assert.False(t, c.Holds(loose, map[amount.Measure]float64{amount.Memory: 0}), "what is not told does not hold")

	plain, err := CompileCondition("owner == 'cellarer'")
	require.NoError(t, err)
	assert.Empty(t, plain.Measures())
	for expression, want := range map[string]string{"cpu_cores_mean": "not true or false",
		"cpu > 1.0": "cpu_cores_mean", "cpu_cores_mean > 1": "no matching overload",
		"kind = 'job'": "does not compile"} {
		_, err := CompileCondition(expression)
		assert.ErrorContains(t, err, want, expression)
	}
}
