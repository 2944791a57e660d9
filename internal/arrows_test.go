// Package internal_test holds the house's arrows: dependencies point downward only.
package internal_test

import (
	"encoding/json"
	"errors"
	"io"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// floors lists the packages from the top of the house down. A package may import those on floors below its own only.
var floors = [][]string{
	{"cmd/vinescale"},
	{"internal/cli"},
	{"internal/api", "internal/screen"},
	{"internal/hub"},
	{"internal/store", "internal/collect", "internal/postgres", "internal/console"},
	{"internal/client", "internal/kernel", "internal/stage", "internal/gpulibrary", "internal/frames",
		"internal/carry"},
	{"internal/wire", "internal/informants", "internal/sheet", "internal/kernel/bpf",
		"internal/kernel/netlink", "internal/kernel/space", "internal/devices"},
	{"internal/identify", "internal/kernel/tree"},
	{"internal/kernel/text", "internal/pack"},
	{"core/whatif"},
	{"core/explain", "core/glossary", "core/choice", "core/statement"},
	{"core/tenancy", "core/folio"},
	{"core/leaf"},
	{"core/question"},
	{"core/account", "core/act"},
	{"core/cpuset"},
	{"core/amount"},
}

// beside are tools and tests' helpers, which nothing of the product imports.
var beside = []string{"internal/browser", "internal/testdb", "internal/crowd", "internal/oracle", "internal/e2e",
	"internal/real", "internal/real/burner", "internal/guest", "internal", "tools/screenshots", "tools/widths"}

type goPackage struct {
	ImportPath string
	Imports    []string
}

func packages(t *testing.T) map[string][]string {
	cmd := exec.Command("go", "list", "-json=ImportPath,Imports", "./...")
	cmd.Dir = ".."
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	found := map[string][]string{}
	for decoder := json.NewDecoder(out); ; {
		var p goPackage
		err := decoder.Decode(&p)
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		found[strings.TrimPrefix(p.ImportPath, "vinescale/")] = p.Imports
	}
	require.NoError(t, cmd.Wait())
	return found
}

func floorOf(name string) int {
	return slices.IndexFunc(floors, func(floor []string) bool { return slices.Contains(floor, name) })
}

func TestHouse_DependenciesPointDownward(t *testing.T) {
	for name, imports := range packages(t) {
		from := floorOf(name)
		if slices.Contains(beside, name) {
			continue
		}
		require.NotEqual(t, -1, from, "%s has no floor: add it to this test and to CONTRIBUTING.md", name)
		for _, i := range imports {
			to, ours := strings.CutPrefix(i, "vinescale/")
			if !ours {
				continue
			}
			assert.NotContains(t, beside, to, "%s imports a helper of tests", name)
			assert.Greater(t, floorOf(to), from, "%s imports %s, which is not below it", name, to)
		}
	}
}

// TestCore_IsPure: the computation does no input or output and knows no clock.
func TestCore_IsPure(t *testing.T) {
	for name, imports := range packages(t) {
		if !strings.HasPrefix(name, "core/") {
			continue
		}
		for _, i := range imports {
			assert.NotContains(t, []string{"os", "net", "net/http", "io/fs", "log", "log/slog", "context", "sync",
				"database/sql"}, i, name)
		}
	}
}
