package cli

import (
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
)

// TestFollows_NothingThatChangesAnythingIsDoneAgainAndAgain with --live, and listings of what was changed are followed.
func TestFollows_NothingThatChangesAnythingIsDoneAgainAndAgain(t *testing.T) {
	followed := map[string]bool{}
	var walk func(*cobra.Command)
	walk = func(c *cobra.Command) {
		if c.Flags().Lookup("live") != nil {
			followed[strings.TrimPrefix(c.CommandPath(), "vinescale ")] = true
		}
		for _, x := range c.Commands() {
			walk(x)
		}
	}
	walk(newRoot())
	for name := range followed {
		assert.False(t, strings.HasPrefix(name, "act ") && name != "act show", name)
		for _, verb := range []string{"add", "remove", "set", "import", "close", "reapply", "enrol", "allow",
			"correct"} {
			assert.NotEqual(t, verb, name[strings.LastIndexByte(name, ' ')+1:], name)
		}
	}
	for _, name := range []string{"share", "weigh", "acts", "act show", "rule try", "pins effective"} {
		assert.True(t, followed[name], name)
	}
}
