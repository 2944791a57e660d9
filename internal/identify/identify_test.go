package identify_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/cockroachdb/datadriven"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/internal/identify"
)

const passwd = "root:x:0:0::/root:/bin/sh\nm.abt:x:2001:2001::/:/bin/sh\nsvc-cellar:x:801:801::/:/bin/sh\nbroken line\ntwin:x:801:801::/:/bin/sh\n"

type place struct{ etc, run, proc string }

func newPlace(t *testing.T) place {
	dir := t.TempDir()
	p := place{filepath.Join(dir, "etc"), filepath.Join(dir, "run"), filepath.Join(dir, "proc")}
	require.NoError(t, os.MkdirAll(p.etc, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(p.etc, "passwd"), []byte(passwd), 0o644))
	return p
}

func (p place) registry() *identify.Registry {
	return identify.NewRegistry(identify.Roots{Etc: p.etc, Run: p.run, Proc: p.proc})
}

func (p place) state(t *testing.T, id, content string) {
	dir := filepath.Join(p.run, "runc", id)
	require.NoError(t, os.MkdirAll(dir, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "state.json"), []byte(content), 0o600))
}

// TestPaths tells which workload begins at a cgroup path, from examples recorded in testdata.
func TestPaths(t *testing.T) {
	registry := newPlace(t).registry()
	datadriven.RunTest(t, "testdata/paths", func(t *testing.T, d *datadriven.TestData) string {
		var b strings.Builder
		for path := range strings.Lines(d.Input) {
			path = strings.TrimSpace(path)
			id := registry.Begins(path)
			if id == account.Unrecognised {
				fmt.Fprintf(&b, "none\n")
				continue
			}
			w := registry.Workload(id)
			fmt.Fprintf(&b, "%s %q owner=%q uid=%d\n", w.Kind, w.Name, w.Owner, w.UID)
		}
		return b.String()
	})
}

func TestContainer_NameAndOwnerComeFromTheRuntimesStateFile(t *testing.T) {
	p := newPlace(t)
	p.state(t, "must-1", `{"id":"must-1","init_process_pid":77,"cgroup_paths":{"memory":"/sys/fs/cgroup/memory/coop/must-1","cpuacct":"/sys/fs/cgroup/cpuacct/coop/must-1"},
		"config":{"labels":["bundle=/b","org.vinescale.name=must-intake","org.vinescale.owner=svc-cellar","site=north"]}}`)
	r := p.registry()
	w := r.Workload(r.Begins("/coop/must-1"))
	assert.Equal(t, "must-intake", w.Name)
	assert.Equal(t, "svc-cellar", w.Owner)
	assert.Equal(t, int64(801), w.UID)
	assert.Equal(t, "north", w.Labels["site"])
	assert.Equal(t, account.Unrecognised, r.Begins("/coop"), "the group around it is not the container")

	// Without annotations: the id, and the user its first process runs as.
	require.NoError(t, os.MkdirAll(filepath.Join(p.proc, "78"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(p.proc, "78/status"), []byte("Name:\tx\nUid:\t2001\t2001\t2001\t2001\n"), 0o644))
	p.state(t, "plain", `{"id":"plain","init_process_pid":78,"cgroup_paths":{"":"/sys/fs/cgroup/plain"}}`)
	w = r.Workload(r.Begins("/plain"))
	assert.Equal(t, "plain", w.Name)
	assert.Equal(t, "m.abt", w.Owner)
}

func TestContainer_UnsoundStateFilesAreLeftOut(t *testing.T) {
	for name, content := range map[string]string{
		"cut short": `{"id":"a","cgroup_paths":{"":"/sys/fs/c`, "empty": "", "not JSON": "<html>", "no id": `{"cgroup_paths":{"":"/sys/fs/cgroup/a"}}`,
		"huge": `{"id":"` + strings.Repeat("a", 5<<20) + `"}`, "wrong types": `{"id":7}`,
	} {
		t.Run(name, func(t *testing.T) {
			p := newPlace(t)
			p.state(t, "a", content)
			assert.Equal(t, account.Unrecognised, p.registry().Begins("/a"))
		})
	}
}

func TestRegistry_NamesAnyoneCanChooseAreMadeSoundForStoring(t *testing.T) {
	p := newPlace(t)
	name, err := json.Marshal("\x00evil" + strings.Repeat("é", 400))
	require.NoError(t, err)
	p.state(t, "n", `{"id":"n","cgroup_paths":{"":"/sys/fs/cgroup/n"},"config":{"labels":["org.vinescale.name=`+strings.Trim(string(name), `"`)+`"]}}`)
	r := p.registry()
	w := r.Workload(r.Begins("/n"))
	assert.NotContains(t, w.Name, "\x00")
	assert.Less(t, len(w.Name), 600)
	assert.Equal(t, "caf\uFFFD", r.ProgramName(r.Program([]byte("caf\xff"))))
}

func TestLoose_IsOnePerUserAndAUidWithoutANameSaysSo(t *testing.T) {
	r := newPlace(t).registry()
	assert.Equal(t, r.Loose(2001), r.Loose(2001))
	assert.Equal(t, "processes of m.abt", r.Workload(r.Loose(2001)).Name)
	assert.Equal(t, "uid 4711", r.Workload(r.Loose(4711)).Owner)
	assert.Equal(t, "svc-cellar", r.Workload(r.Loose(801)).Owner, "the first line of a uid is its name")
}
