package cpuset_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"vinescale/core/cpuset"
)

func TestParse_TheKernelsListFormat(t *testing.T) {
	for list, want := range map[string]string{"": "", "0": "0", "0-3,8": "0-3,8", "8,0-3": "0-3,8", "1,2,3": "1-3",
		" 5 \n": "5", "63-65": "63-65", "2,2": "2"} {
		s, err := cpuset.Parse(list)
		require.NoError(t, err, "%q", list)
		assert.Equal(t, want, s.String())
	}
	for list, why := range map[string]string{"a": "not a CPU number", "3-1": "runs backwards", "0-": "not a CPU number",
		"-1": "not a CPU number", "1,,2": "not a CPU number", "9000": "above the highest",
		"0-99999999": "above the highest"} {
		_, err := cpuset.Parse(list)
		assert.ErrorContains(t, err, why, "%q", list)
	}
}

func TestSet_ListAndSetAreTheSame(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		draw := func(name string) []int { return rapid.SliceOfN(rapid.IntRange(0, 300), 0, 40).Draw(t, name) }
		as, bs := draw("a"), draw("b")
		a, b := cpuset.Of(as...), cpuset.Of(bs...)
		back, err := cpuset.Parse(a.String())
		require.NoError(t, err)
		require.Equal(t, a, back, "sets of the same CPUs are equal however they were made")
		require.Equal(t, cpuset.Of(append(slices.Clone(as), bs...)...), a.Union(b))
		require.Len(t, a.CPUs(), a.Len())
		both := false
		for c := range 301 {
			require.Equal(t, a.Has(c) || b.Has(c), a.Union(b).Has(c))
			both = both || a.Has(c) && b.Has(c)
		}
		require.Equal(t, both, a.Overlaps(b))
	})
}

func TestSet_HoldsEveryNumberThatThereCanBeAndNoOther(t *testing.T) {
	top, err := cpuset.Parse("8191")
	require.NoError(t, err)
	assert.True(t, top.Has(cpuset.MaxCPU))
	assert.Equal(t, 1, top.Len())
	_, err = cpuset.Parse("8192")
	require.ErrorContains(t, err, "CPU 8192 is above the highest possible number 8191")

	s := cpuset.Of(-1, 0, 63, 64, cpuset.MaxCPU, cpuset.MaxCPU+1)
	assert.Equal(t, "0,63-64,8191", s.String())
	assert.Equal(t, []bool{false, true, false, true, true, false, true, false}, []bool{s.Has(-1), s.Has(0), s.Has(1),
		s.Has(63), s.Has(64), s.Has(65), s.Has(8191), s.Has(8192)})
	assert.Equal(t, 4, s.Len())
	assert.False(t, cpuset.Set{}.Has(0))
	assert.Empty(t, cpuset.Set{}.String())
}

// TestSet_IsNotChangedByWhatIsMadeOfIt: With and Union make new sets.
func TestSet_IsNotChangedByWhatIsMadeOfIt(t *testing.T) {
	a, b := cpuset.Of(1), cpuset.Of(2, 70)
	assert.Equal(t, "1,3", a.With(3).String())
	assert.Equal(t, "1-2,70", a.Union(b).String())
	assert.Equal(t, "1-2,70", b.Union(a).String())
	assert.Equal(t, []string{"1", "2,70"}, []string{a.String(), b.String()})
	assert.False(t, a.Overlaps(b))
	assert.False(t, b.Overlaps(a))
	assert.True(t, b.Overlaps(cpuset.Of(70)))
}
