package cpuset

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestNumbered_ByPackageCoreAndThread(t *testing.T) {
	// Two packages of two cores of two threads; the kernel numbers the second threads after all first ones, and cores
	// are not numbered in a row.
	var places Places
	for cpu := range 8 {
		places = append(places, Place{CPU: cpu, Package: cpu % 4 / 2, Core: []int{0, 8}[cpu%2], Node: 0})
	}
	for at, want := range map[string]string{"0": "0", "1": "4", "0-1": "0,4", "2-3": "1,5", "4-7": "2-3,6-7",
		"0-8": "0-8"} {
		set, err := Parse(at)
		require.NoError(t, err)
		assert.Equal(t, want, places.Numbered(set).String(), at)
	}
	set, _ := Parse("1")
	assert.Equal(t, "1", Places{{CPU: 0, Core: 0, Package: 0}, {CPU: 1, Core: -1, Package: 0}}.Numbered(set).String())
	assert.Equal(t, "1", Places{}.Numbered(set).String(), "nothing is known of the host")
}
