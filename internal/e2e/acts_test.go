package e2e

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/internal/api"
	"vinescale/internal/browser"
)

// TestAct_IsPreviewedByItsHostAndAStagedOneCarriesNothingOut goes the whole way of an act by commands: the demo's hosts
// are made up of files, and say so when something is to be done.
func TestAct_IsPreviewedByItsHostAndAStagedOneCarriesNothingOut(t *testing.T) {
	shown := demo.run("act", "cap", "weather-cache", "--cpu", "1.5", "--preview")
	require.Zero(t, shown.code, shown.stderr)
	for _, words := range []string{"cap container weather-cache on terrace-2, through the runtime runc", "max 100000",
		"150000 100000", "Touches 1 process\n", "Can be undone: the limits from before."} {
		assert.Contains(t, shown.stdout, words)
	}
	done := demo.run("act", "pause", "weather-cache", "--yes", "--reason", "it is loud")
	assert.Equal(t, 1, done.code)
	assert.Contains(t, done.stderr, "this host is staged")
	assert.Contains(t, done.stdout, "through the runtime runc")
	asked := demo.run("act", "end", "weather-cache")
	assert.Equal(t, 2, asked.code, "nobody can be asked here")
	assert.Contains(t, asked.stderr, "--yes")

	var acts []api.Intervention
	trail := demo.run("acts", "--host", "terrace-2", "--as", "json")
	require.NoError(t, json.Unmarshal([]byte(trail.stdout), &acts))
	require.GreaterOrEqual(t, len(acts), 2)
	assert.Equal(t, []string{"pause", "refused", "it is loud", "administrator"},
		[]string{acts[0].Verb, acts[0].State, acts[0].Reason, acts[0].Who})
	whole := demo.run("act", "show", acts[0].ID)
	assert.Contains(t, whole.stdout, "it is loud")

	for _, x := range []struct {
		args []string
		want string
	}{
		{[]string{"act", "pause", "--process", "999999", "--host", "terrace-2", "--yes"}, "there is no process 999999"},
		{[]string{"act", "cap", "weather-cache", "--yes"}, "give at least one of cpu, memory"},
		{[]string{"act", "cap", "weather-cache", "--cpu", "lots", "--yes"}, `cpu "lots": give a number of cores`},
		{[]string{"act", "pause", "--process", "7", "--yes"}, "say on which host"},
		{[]string{"act", "pause", "--yes"}, "say what pause is aimed at"},
		{[]string{"act", "pause", "--process", "7", "--family", "7", "--host", "terrace-2", "--yes"}, "choose one"},
		{[]string{"act", "pause", "Cellar Intake", "--yes"}, "is a tenant"},
		{[]string{"act", "undo", acts[0].ID, "--yes"}, "changed nothing that could be put back"},
		{[]string{"act", "undo", "nothing", "--yes"}, "there is no act"},
	} {
		r := demo.run(x.args...)
		assert.NotZero(t, r.code, x.args)
		assert.Contains(t, r.stderr, x.want, "%v", x.args)
	}
}

func TestConsole_AnActIsShownConfirmedAndOnRecord(t *testing.T) {
	b := openConsole(t)
	require.NoError(t, b.SignIn(demo.address, demo.token))
	require.NoError(t, b.Go(demo.address+"/workloads?kind=container"))
	require.NoError(t, b.WaitFor(`document.querySelector('button[aria-label="Act on weather-cache"]')`))
	assert.Empty(t, violations(t, b), "workloads")
	require.NoError(t, b.Click(`button[aria-label="Act on weather-cache"]`))
	require.NoError(t, b.WaitFor(`document.querySelectorAll('[role=menuitem]').length === 7`))
	choose := func(item string) {
		_, err := browser.Eval[bool](b, `([...document.querySelectorAll('[role=menuitem]')]
			.find(x => x.innerText.startsWith('`+item+`')).click(), true)`)
		require.NoError(t, err)
	}
	choose("Limit")
	require.NoError(t, b.WaitText("Show what it would do"))
	assert.Empty(t, violations(t, b), "settings")
	_, err := browser.Eval[bool](b, `(document.querySelector('[role=dialog] input').focus(), true)`)
	require.NoError(t, err)
	typeInto(t, b, "[role=dialog] input", "none of it")
	submit := `[role=dialog] button[type=submit]`
	require.NoError(t, b.Click(submit))
	require.NoError(t, b.WaitText("give a number of cores"))
	typeInto(t, b, "[role=dialog] input", "1.5")
	require.NoError(t, b.Click(submit))
	require.NoError(t, b.WaitText("150000 100000"))
	assert.Empty(t, violations(t, b), "preview")
	require.NoError(t, b.WaitText("Limit process"))
	_, err = browser.Eval[bool](b, `([...document.querySelectorAll('[role=dialog] button')]
		.find(x => x.innerText.startsWith('Limit process')).click(), true)`)
	require.NoError(t, err)
	require.NoError(t, b.WaitText("refused: this host is staged"))
	require.NoError(t, b.Go(demo.address+"/acts"))
	require.NoError(t, b.WaitText("container weather-cache"))
	require.NoError(t, b.Click(`button[aria-label^="more of act"]`))
	require.NoError(t, b.WaitText("asked by administrator"))
	assert.Empty(t, violations(t, b), "acts")

	require.NoError(t, b.WaitText("Standing rules"))
	_, err = browser.Eval[bool](b, `([...document.querySelectorAll('button')]
		.find(x => x.innerText === 'try or add').click(), true)`)
	require.NoError(t, err)
	field := func(label string) string {
		return `section[aria-labelledby=standing-title] label:has(input[placeholder^="` + label + `"]) input`
	}
	typeInto(t, b, field("kind == 'loose'"), "cpu_core > 1.0")
	try := `section[aria-labelledby=standing-title] button[type=submit]`
	require.NoError(t, b.Click(try))
	require.NoError(t, b.WaitText("did you mean 'cpu_cores_mean'"))
	typeInto(t, b, field("kind == 'loose'"), "cpu_cores_mean > 2.0 && kind == 'vm'")
	require.NoError(t, b.Click(try))
	require.NoError(t, b.WaitText("it would have acted"))
	assert.Empty(t, violations(t, b), "a rule tried")
	typeInto(t, b, field("loud-programs"), "heavy-machines")
	_, err = browser.Eval[bool](b, `([...document.querySelectorAll('button')]
		.find(x => x.innerText === 'Add it, switched off').click(), true)`)
	require.NoError(t, err)
	require.NoError(t, b.WaitFor(`document.querySelector('button[aria-label="Switch on heavy-machines"]')`))
	require.NoError(t, b.Click(`button[aria-label="Switch on heavy-machines"]`))
	require.NoError(t, b.WaitFor(`document.querySelector('button[aria-label="Switch off heavy-machines"]')`))
	assert.Empty(t, violations(t, b), "standing rules")
	require.NoError(t, b.Click(`button[aria-label="Remove heavy-machines"]`))
	require.NoError(t, b.WaitText("There are none"))

	// Who only reads sees the record, and no buttons.
	token := strings.TrimSpace(demo.run("token", "add", "acts-reader", "--role", "reader").stdout)
	defer demo.run("token", "remove", "acts-reader")
	reader := openConsole(t)
	require.NoError(t, reader.SignIn(demo.address, token))
	require.NoError(t, reader.Go(demo.address+"/workloads?kind=container"))
	require.NoError(t, reader.WaitText("weather-cache"))
	n, err := browser.Eval[int](reader, `document.querySelectorAll('button[aria-label^="Act on"]').length`)
	require.NoError(t, err)
	assert.Zero(t, n)
}

// TestAct_AsksInATerminalBeforeAnythingIsDone answers the question in a terminal window.
func TestAct_AsksInATerminalBeforeAnythingIsDone(t *testing.T) {
	said := func(w *window) string {
		w.mu.Lock()
		defer w.mu.Unlock()
		return w.text.String()
	}
	for answer, want := range map[string]string{"y": "not confirmed; nothing was done", "yes": "this host is staged"} {
		w := openWindow(t, 120, 40, "act", "pause", "weather-cache")
		require.Eventually(t, func() bool { return strings.Contains(said(w), "Type yes: ") }, patience,
			20*time.Millisecond)
		assert.Contains(t, said(w), "Carry this out on terrace-2?")
		_, err := w.file.WriteString(answer + "\n")
		require.NoError(t, err)
		<-w.done
		assert.Error(t, w.cmd.Wait(), answer)
		assert.Contains(t, said(w), want, answer)
	}
}
