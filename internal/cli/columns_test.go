package cli

import (
	"bytes"
	"context"
	"net/http"
	"net/http/httptest"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"

	"vinescale/core/glossary"
)

// TestColumns_AreAllExplained asks every listing for a column that it has not, and looks up all those that it names.
func TestColumns_AreAllExplained(t *testing.T) {
	answer := "[]"
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		_, _ = w.Write([]byte(answer))
	}))
	defer service.Close()
	t.Setenv("VINESCALE_TOKEN", "vs_x")
	t.Setenv("VINESCALE_SERVICE", service.URL)
	named := regexp.MustCompile(`(?:choose from|the columns are|one of) (.*)`)
	listings := 0
	var walk func(cmd *cobra.Command)
	walk = func(cmd *cobra.Command) {
		for _, c := range cmd.Commands() {
			walk(c)
		}
		if cmd.Flags().Lookup("columns") == nil || cmd.RunE == nil || cmd.Name() == "live" {
			return
		}
		path := strings.Fields(cmd.CommandPath())[1:]
		last := ""
		flags := []string{"--columns", "no_such"}
		for name, value := range map[string]string{"host": "a", "from": "2026-11-01"} {
			if cmd.Flags().Lookup(name) != nil {
				flags = append(flags, "--"+name, value)
			}
		}
		for _, args := range [][]string{nil, {"a"}, {"a", "b"}} {
			for _, answer = range []string{"[]", "{}", "[{}]", `{"differences": [{}], "moves": [{}]}`} {
				var said bytes.Buffer
				Run(context.Background(), slices.Concat(path, args, flags), nil, &said,
					&said)
				last += said.String()
				m := named.FindStringSubmatch(said.String())
				if !strings.Contains(said.String(), "no_such") || m == nil {
					continue
				}
				listings++
				for name := range strings.SplitSeq(strings.TrimRight(m[1], ".\n"), ", ") {
					_, is := glossary.Column(name, strings.Join(path, " "))
					assert.True(t, is, "%s: the column %q is not explained", strings.Join(path, " "), name)
				}
				return
			}
		}
		assert.Fail(t, "not reached", "%s: %s", strings.Join(path, " "), last)
	}
	walk(newRoot())
	assert.Greater(t, listings, 20)
}
