package identify

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/amount"
)

func TestBegun_IsKnownByItsGroupAndItsFile(t *testing.T) {
	run, etc := t.TempDir(), t.TempDir()
	require.NoError(
		t,
		os.WriteFile(filepath.Join(etc, "passwd"), []byte("grape:x:2001:2001::/home/grape:/bin/sh\n"), 0o600),
	)
	b := Begun{Name: "frost-grid.1", Mark: 7, UID: 2001, Tenant: "Frost Watch", Command: "./grid --members 20"}
	require.NoError(t, b.Write(run))
	assert.ErrorIs(t, b.Write(run), os.ErrExist, "a name is of one piece of work")
	r := NewRegistry(Options{Roots: Roots{Run: run, Etc: etc, Proc: t.TempDir()}})
	id := r.Begins("/vinescale/begun-frost-grid.1")
	w := r.Workload(id)
	assert.Equal(
		t,
		[]any{"job:begun:frost-grid.1@7", amount.Job, "frost-grid.1", "grape", "Frost Watch", BegunRecogniser},
		[]any{w.Key, w.Kind, w.Name, w.Owner, w.Labels[TenantLabel], w.Recogniser},
	)
	for _, p := range []string{"/user.slice/vinescale/begun-frost-grid.1", "/begun-frost-grid.1",
		"/vinescale/frost-grid.1", "/vinescale/begun-frost-grid.1/inner", "/vinescale/begun-other",
		"/vinescale/begun-../frost-grid.1"} {
		assert.Less(t, int32(r.Begins(p)), int32(0), "%s is not it", p)
	}
	require.NoError(t, b.Remove(run))
	b.Mark = 8
	require.NoError(t, b.Write(run))
	again := NewRegistry(Options{Roots: Roots{Run: run, Etc: etc, Proc: t.TempDir()}})
	assert.Equal(t, "job:begun:frost-grid.1@8", again.Workload(again.Begins("/vinescale/begun-frost-grid.1")).Key,
		"begun again, it is another")
	for name, want := range map[string]bool{"a": true, "A-1_x.y": true, "-a": false, "a/b": false, "": false,
		"..": false} {
		assert.Equal(t, want, BegunName.MatchString(name), name)
	}
}
