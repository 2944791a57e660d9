package e2e

import (
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/explain"
	"vinescale/internal/api"
	"vinescale/internal/hub"
	"vinescale/internal/sheet"
)

// scratch copies what the program is built of, the built console with it, to a directory of its own.
func scratch(t *testing.T) string {
	dir := t.TempDir()
	for _, part := range []string{"go.mod", "go.sum", "cmd", "core", "internal"} {
		require.NoError(t, filepath.WalkDir(filepath.Join("../..", part),
			func(path string, d fs.DirEntry, err error) error {
				if err != nil || d.IsDir() {
					return err
				}
				raw, err := os.ReadFile(path)
				if err != nil {
					return err
				}
				to := filepath.Join(dir, strings.TrimPrefix(path, "../../"))
				if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
					return err
				}
				return os.WriteFile(to, raw, 0o644)
			}))
	}
	return dir
}

// edit puts text before the only place where another stands in a file.
func edit(t *testing.T, file, before, text string) {
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Equal(t, 1, strings.Count(string(raw), before), "%q in %s", before, file)
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(raw), before, text+before, 1)), 0o644))
}

// TestRegister_AResourceAndAMeasureAreOneEntryEach adds one of both to a scratch copy of the program, and 40 measures
// more, by an entry of the register and its number and nothing else, and asks for them through the store, the network
// interface, the commands and the console.
func TestRegister_AResourceAndAMeasureAreOneEntryEach(t *testing.T) {
	t.Parallel()
	dir := scratch(t)
	measures, register := filepath.Join(dir, "core/amount/measure.go"), filepath.Join(dir, "core/amount/register.go")
	edit(t, measures, "	NumResources int      = iota\n", "	Press // wine pressed\n")
	numbers, entries := "", "" // of more measures than a machine word has bits
	for n := range 40 {
		numbers += fmt.Sprintf("	Press%d\n", n)
		entries += fmt.Sprintf(
			"	Press%d: {Name: %q, Title: \"Press\", Unit: count, Of: Press, Meaning: \"Grapes.\"},\n", n,
			fmt.Sprintf("press_sort_%d", n))
	}
	edit(t, measures, "	NumMeasures int = iota + NumResources\n", numbers+"	PressSpilt\n")
	edit(t, register, "\n	CPUUser: {", `
	Press: {Name: "press", Title: "Press", Unit: moved, Bound: ByCapacity, Of: Press, Meaning: "Must that was pressed.",
		NeverOf: "nobody counts what it presses"},
	PressSpilt: {Name: "press_spilt_bytes", Title: "Press, spilt", Unit: moved, Of: Press,
		Meaning: "Must that was lost."},
`+entries)
	bin := filepath.Join(dir, "vinescale")
	build := exec.Command("go", "build", "-o", bin, "./cmd/vinescale")
	build.Dir = dir
	out, err := build.CombinedOutput()
	require.NoError(t, err, "%s", out)

	// The store, held to the oracle over the new ones and all others.
	ask := exec.Command("go", "test", "./internal/oracle", "-rapid.checks=40", "-rapid.nofailfile")
	ask.Dir = dir
	out, err = ask.CombinedOutput()
	require.NoError(t, err, "%s", out)

	service := serveBy(t, bin, dataDir(t))
	credential := strings.TrimSpace(service.run("hosts", "enrol", "press-9").stdout)
	old := strings.TrimSpace(service.run("hosts", "enrol", "cellar-9").stdout)
	require.Zero(t, service.run("tenant", "add", "Label Press").code)
	require.Zero(t, service.run("rule", "add", "Label Press", "name == 'label'").code)
	require.Zero(t, service.run("quota", "set", "Label Press", "press", "1kB", "--from", "2020-01-01").code)
	from := time.Now().Add(-3 * time.Minute).Truncate(time.Minute)
	send := func(host, credential, ledgers, usages, figures string) {
		body := fmt.Sprintf(`{"version":2,"host":%q,"intervals":[{"boot":"b","sequence":"1","fromUnixMicros":%q,
				"toUnixMicros":%q,
			"elapsedMillis":"60000","ticks":1,"cpus":2,"ledgers":[%s],"usages":[%s],"figures":{%s},
			"workloads":{"key":["job:1"],"kind":["job"],"name":["label"],"owner":["l.roth"],"uid":[2001],"path":[""],
				"allowed":["0-1"],"labels":[{}],"threads":[1],"processes":[1]}}]}`, host, fmt.Sprint(from.UnixMicro()),
			fmt.Sprint(from.Add(time.Minute).UnixMicro()), ledgers, usages, figures)
		status, _, answer := call(t, "POST", service.address+"/api/v1/intervals", credential, "application/json",
			strings.NewReader(body))
		require.Equal(t, 200, status, "%s", answer)
	}
	const cpu = `{"resource":"cpu","capacity":{"units":"120000000"},"used":{"units":"6000000"},
		"idle":{"units":"114000000"}}`
	const cpuUse = `{"resource":"cpu","units":["6000000"],"peak":["1"],"source":[0]}`
	send("press-9", credential,
		cpu+`,{"resource":"press","capacity":{"units":"600000"},"used":{"units":"130000"},
			"idle":{"units":"470000"},"kernel":{"units":"1000"}}`,
		cpuUse+`,{"resource":"press","units":["120000"],"peak":["4000"],"source":[1]}`,
		`"measures":[{"name":"press_spilt_bytes","workload":[0],"units":["600"],"source":[0]}]`)

	l := runJSON[sheet.Ledger](t, service, "share", "--of", "press", "--by", "tenant")
	require.Len(t, l.Shares, 1)
	assert.Equal(t, []any{"Label Press", 120000.0, "summed", 9000.0, 600000.0},
		[]any{l.Shares[0].Name, *l.Shares[0].Amount,
			l.Shares[0].Source, *l.Residual, *l.Capacity})
	spilt := runJSON[sheet.Ledger](t, service, "share", "--of", "press_spilt_bytes", "--by", "workload")
	require.Len(t, spilt.Shares, 1)
	assert.Equal(t, []any{"label", 600.0, sheet.NoLedger},
		[]any{spilt.Shares[0].Name, *spilt.Shares[0].Amount, spilt.Notes["used"]})
	status, _, answer := call(t, "GET", service.address+"/api/v1/timeline?of=press", service.token, "", nil)
	assert.Equal(t, 200, status)
	assert.Contains(t, string(answer), `"busy_share":0.21666666666666667`)
	assert.Equal(t, 3, service.run("balance", "--of", "press", "--fail-on", "over").code, "2 kB/s are over the quota")
	table := service.run("balance", "--of", "press").stdout
	assert.Regexp(t, `Press by tenant +kB/s +quota`, table)
	assert.Regexp(t, `Label Press +2\.0 +1\.0`, table)
	assert.Contains(t, service.run("workloads").stdout, "press MB/s")
	all := runJSON[[]api.Measure](t, service, "measures")
	assert.Equal(t, []any{"press", true, true}, []any{all[7].Name, all[7].HasLedger, all[7].IsTold})
	assert.Equal(t, []any{"gpu", false, "energy", false},
		[]any{all[4].Name, all[4].IsTold, all[6].Name, all[6].IsTold}, "no host of these has a meter, or a GPU")
	status, _, answer = call(t, "GET", service.address+"/api/v1/openapi.json", "", "", nil)
	assert.Equal(t, 200, status)
	assert.Contains(t, string(answer), `"energy","press"`)
	completed := service.run("__complete", "quota", "set", "Label Press", "").stdout
	assert.Contains(t, completed, "press\n")

	// A collector that is older does not know it: that is said, and what it tells is taken.
	send("cellar-9", old, cpu, cpuUse, "")
	l = runJSON[sheet.Ledger](t, service, "share", "--of", "press", "--by", "host")
	byName := map[string]sheet.Share{}
	for _, s := range l.Shares {
		byName[s.Name] = s
	}
	assert.Nil(t, byName["cellar-9"].Amount)
	assert.Equal(t, "its collector does not tell", byName["cellar-9"].Reason)
	assert.Equal(t, "its collector does not tell (cellar-9)", l.Notes["used"])
	b := runJSON[explain.Balance](t, service, "balance", "--host", "cellar-9")
	assert.Nil(t, b.Resources[7].Used)
	about := runJSON[hub.AboutGroup](t, service, "about", "host/cellar-9")
	assert.Equal(t, []any{"cpu", 6.0}, []any{about.Uses[0].Resource, *about.Uses[0].Amount})

	c := openConsole(t)
	require.NoError(t, c.SignIn(service.address, service.token))
	require.NoError(t, c.Go(service.address+"/hosts/press-9"))
	require.NoError(t, c.WaitText("shares + kernel + idle + residual = capacity"))
	require.NoError(t,
		c.WaitFor(
			`[...document.querySelectorAll('[aria-label="Resource"] button')].some((b) => b.innerText === 'Press')`))
	require.NoError(t,
		c.WaitFor(`[...document.querySelectorAll('[aria-label="Resource"] button')].at(-1).click() ?? true`))
	require.NoError(t, c.WaitText("by press"))
	require.NoError(t, c.Click(`a[href^="/workloads/"]`))
	require.NoError(t, c.WaitText("Press, spilt"))
	require.NoError(t, c.WaitText("600 B"))
}
