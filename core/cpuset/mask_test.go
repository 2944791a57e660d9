package cpuset_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"vinescale/core/cpuset"
)

func TestParseMask_ReadsWhatTheKernelWrites(t *testing.T) {
	for mask, list := range map[string]string{
		"0": "", "1": "0", "f": "0-3", "FF": "0-7", "0xff": "0-7", "0X80000001": "0,31", "00000001,00000000": "32",
		"1,00000000,00000002": "1,64", "80000000,00000000,00000000\n": "95", "0x100000000": "32",
		"00000000,0000000f": "0-3", "0x" + strings.Repeat("0", 4000) + "3": "0-1",
	} {
		s, err := cpuset.ParseMask(mask)
		require.NoError(t, err, mask)
		assert.Equal(t, list, s.String(), mask)
	}
	for mask, why := range map[string]string{
		"": "not a hexadecimal number", "0x": "not a hexadecimal number", "xyz": "not a hexadecimal number",
		"-1": "not a hexadecimal number", "1,2": `the group "2" has 1 digits`, "123456789,00000000": "has 9 digits",
		"1,000000000": "has 9 digits", "0x1,00000000": "either one number", "1,,00000000": "has 0 digits",
		",00000000":                            "not a hexadecimal number",
		"1" + strings.Repeat(",00000000", 256): "is too long",
		"0x1" + strings.Repeat("0", 2048):      "is too long",
	} {
		_, err := cpuset.ParseMask(mask)
		assert.ErrorContains(t, err, why, "%.40s", mask)
	}
	s, err := cpuset.ParseMask("80000000" + strings.Repeat(",00000000", 255))
	require.NoError(t, err)
	assert.Equal(t, "8191", s.String(), "the highest number that can be")
}

func TestRead_TakesListsAndMasks(t *testing.T) {
	for text, list := range map[string]string{"0-3,8": "0-3,8", "10": "10", "0x10": "4", "1,2": "1-2",
		"1,00000000": "32", " 3 ": "3", "10,11,12": "10-12"} {
		s, err := cpuset.Read(text)
		require.NoError(t, err, text)
		assert.Equal(t, list, s.String(), text)
	}
	_, err := cpuset.Read("3-1")
	assert.ErrorContains(t, err, "runs backwards")
	_, err = cpuset.Read("0xg")
	assert.ErrorContains(t, err, "hexadecimal")
}

// TestSet_ObeysTheLawsOfSets: both formats bring a set back, and what two sets have in common, and what one has alone,
// make it up.
func TestSet_ObeysTheLawsOfSets(t *testing.T) {
	cpu := rapid.OneOf(rapid.IntRange(0, 130), rapid.IntRange(8100, cpuset.MaxCPU))
	rapid.Check(t, func(t *rapid.T) {
		a := cpuset.Of(rapid.SliceOf(cpu).Draw(t, "a")...)
		b := cpuset.Of(rapid.SliceOf(cpu).Draw(t, "b")...)
		for _, s := range []cpuset.Set{a, a.Intersect(b), a.Minus(b), a.Union(b)} {
			list, err := cpuset.Parse(s.String())
			require.NoError(t, err)
			require.True(t, list.Equal(s))
			mask, err := cpuset.ParseMask(s.Mask())
			require.NoError(t, err)
			require.True(t, mask.Equal(s), "%s as %s", s, s.Mask())
			require.Equal(t, s.Len() == 0, s.IsEmpty())
		}
		require.True(t, a.Equal(a.Intersect(b).Union(a.Minus(b))))
		require.False(t, a.Minus(b).Overlaps(b))
		require.Equal(t, a.Len(), a.Intersect(b).Len()+a.Minus(b).Len())
		require.Equal(t, a.Minus(b).IsEmpty(), a.Within(b))
		require.Equal(t, a.Overlaps(b), !a.Intersect(b).IsEmpty())
	})
}

func TestPlaces_TellSiblingsAndNodes(t *testing.T) {
	places := cpuset.Places{{0, 0, 0, 0}, {1, 1, 0, 0}, {2, 0, 1, 1}, {3, 1, 1, 1}, {4, 0, 0, 0}, {5, 1, 0, 0},
		{6, -1, -1, -1}, {7, -1, -1, -1}}
	assert.Equal(t, "4", places.Siblings(cpuset.Of(0)).String(), "core 0 of the other package is another")
	assert.Equal(t, "", places.Siblings(cpuset.Of(0, 4)).String())
	assert.Equal(t, "4-5", places.Siblings(cpuset.Of(0, 1, 2)).String())
	assert.Equal(t, "", places.Siblings(cpuset.Of(6)).String(), "nothing is known of its core")
	assert.Equal(t, []int{0, 1}, places.Nodes(cpuset.Of(4, 2, 0)))
	assert.Equal(t, []int{0}, places.Nodes(cpuset.Of(0, 6)))
	assert.Equal(t, "0-7", places.All().String())
}
