package kernel_test

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/internal/kernel"
	"vinescale/internal/kernel/text"
)

func TestOwnFile_ItsPagesAreGivenBackAndComeAgainInPieces(t *testing.T) {
	own, err := os.Readlink("/proc/self/exe")
	require.NoError(t, err)
	mappings := func() (n int) {
		raw, err := os.ReadFile("/proc/self/smaps")
		require.NoError(t, err)
		return len(text.UnwrittenMappings(raw, own))
	}
	before := mappings()
	o, err := kernel.OpenOwnFile()
	require.NoError(t, err)
	assert.Greater(t, mappings(), before+50, "the program is of several megabytes")
	for range 3 {
		require.NoError(t, o.Release())
		require.Greater(t, mappings(), before+50, "what it needs is brought back, and they stay as they are")
	}
	var none *kernel.OwnFile
	assert.NoError(t, none.Release(), "where it was not found, nothing is given back")
}
