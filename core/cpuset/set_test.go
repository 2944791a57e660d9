package cpuset_test

import (
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
		require.Equal(t, a.CPUs(), back.CPUs())
		require.Len(t, a.CPUs(), a.Len())
		both := false
		for c := range 301 {
			require.Equal(t, a.Has(c) || b.Has(c), a.Union(b).Has(c))
			both = both || a.Has(c) && b.Has(c)
		}
		require.Equal(t, both, a.Overlaps(b))
	})
}
