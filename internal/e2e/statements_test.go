package e2e

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/shopspring/decimal"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"vinescale/core/statement"
	"vinescale/internal/browser"
	"vinescale/internal/stage"
)

// accounted is a service that two hosts told of the last days, of which the last two whole ones in Vienna are closed.
// The statement of Label Press of the first of them was corrected before the second was closed.
func accounted(t *testing.T) *running {
	const hours = 75
	r := serve(t, dataDir(t))
	for _, x := range stage.Tenants {
		require.Zero(t, r.run("tenant", "add", x.Name).code)
		require.Zero(t, r.run("rule", "add", x.Name, x.Rule).code)
	}
	from := time.Now().UTC().Add(-hours * time.Hour).Truncate(30 * time.Minute)
	for _, h := range stage.Cooperative(from)[1:3] {
		credential := strings.TrimSpace(r.run("hosts", "enrol", h.Name).stdout)
		batches, _ := batchesOf(t, h, hours, 30*time.Minute)
		for _, b := range batches {
			require.NoError(t, sendTo(t, r, credential, b))
		}
	}
	tariff, err := yaml.Marshal(stage.Tariff())
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "tariff.yaml")
	require.NoError(t, os.WriteFile(file, tariff, 0o600))
	require.Contains(t, r.run("tariff", "import", file, "--reason", "agreed").stdout, "is in force")
	for days := 2; days > 0; days-- {
		day := inVienna(t, time.Now()).AddDate(0, 0, -days).Format(time.DateOnly)
		closed := r.run("statement", "close", day)
		require.Zero(t, closed.code, closed.stderr)
		if days == 2 {
			list := runJSON[[]statement.Statement](t, r, "statement", "list", "--tenant", "Label Press")
			done := r.run("statement", "correct", fmt.Sprint(list[0].Number), "cpu", "--reason", "a trial", "--", "-4")
			require.Contains(t, done.stdout, "Label Press gets -4 core-hours")
		}
	}
	return r
}

// inVienna is a moment by the tariff's clock, whose days the windows are.
func inVienna(t *testing.T, at time.Time) time.Time {
	zone, err := time.LoadLocation("Europe/Vienna")
	require.NoError(t, err)
	return at.In(zone)
}

// TestStatements_BalanceAndStayAsTheyWereClosed goes the whole way by commands, and then through the console.
func TestStatements_BalanceAndStayAsTheyWereClosed(t *testing.T) {
	service := accounted(t)
	closed := runJSON[[]statement.Statement](t, service, "statement", "list")
	require.GreaterOrEqual(t, len(closed), 9)
	assert.Contains(t, service.run("statement", "verify").stdout, "statements are as they were closed")
	window := closed[0].Window
	a := runJSON[statement.Account](t, service, "statement", "--window", window)
	cost := decimal.Zero
	for _, s := range a.Statements {
		require.NotZero(t, s.Number)
		cost = cost.Add(s.Cost)
	}
	page := service.run("statement", "--window", window)
	require.Zero(t, page.code, page.stderr)
	assert.Contains(t, page.stdout, cost.StringFixed(2), "the last line is the sum")

	draft := runJSON[statement.Account](t, service, "statement", "--window", "this")
	require.NotEmpty(t, draft.Proof)
	for _, p := range draft.Proof {
		assert.True(t, p.Holds(), "%s: %s of %s", p.Resource, p.Statements, p.Ledger)
	}
	assert.Contains(t, service.run("statement").stdout, "the sum of all statements is the ledger, to the last unit")

	one := service.run("statement", "Label Press", "--window", closed[len(closed)-1].Window)
	assert.Contains(t, one.stdout, "Statement of Label Press for "+closed[len(closed)-1].Window)
	grouped := service.run("statement", "Label Press", "--window", window, "--by", "kind")
	assert.Contains(t, grouped.stdout, "container")
	corrections := runJSON[[]statement.Correction](t, service, "statement", "corrections")
	require.Len(t, corrections, 1)
	assert.NotZero(t, corrections[0].In, "it is a line of the day after")

	lines, err := csv.NewReader(strings.NewReader(service.run("statement", "--window", window, "--as", "csv").stdout)).
		ReadAll()
	require.NoError(t, err)
	sum, at := decimal.Zero, slices.Index(lines[0], "cost")
	for _, l := range lines[1:] {
		sum = sum.Add(decimal.RequireFromString(l[at]))
	}
	assert.True(t, cost.Equal(sum), "%s and %s", cost, sum)
	focus, err := csv.NewReader(strings.NewReader(service.run("statement", "--window", window, "--focus").stdout)).
		ReadAll()
	require.NoError(t, err)
	assert.Equal(t, statement.FocusColumns, focus[0])
	assert.Len(t, focus, len(lines))

	export := filepath.Join(t.TempDir(), "tariff.yaml")
	require.NoError(t, os.WriteFile(export, []byte(service.run("tariff", "export").stdout), 0o600))
	assert.Contains(t, service.run("tariff", "import", export).stdout, "nothing was changed")
	assert.Contains(t, service.run("tariff").stdout, "core-hour")
	gap := filepath.Join(t.TempDir(), "gap.yaml")
	require.NoError(t, os.WriteFile(gap, []byte("currency: EUR\nprices:\n- {of: cpu, price: 1, from: 2026-01-01, "+
		"until: 2026-02-01}\n- {of: cpu, price: 1, from: 2026-02-02}\n"), 0o600))
	odd := filepath.Join(t.TempDir(), "odd.yaml")
	require.NoError(t, os.WriteFile(odd, []byte("prizes: []\n"), 0o600))
	for _, x := range []struct {
		args []string
		want string
	}{
		{[]string{"tariff", "import", gap}, "no price of cpu from 2026-02-01 until 2026-02-02"},
		{[]string{"tariff", "import", odd}, "prizes"},
		{[]string{"statement", "close", "this"}, "say which window"},
		{[]string{"statement", "close", window}, "a closed statement never changes"},
		{[]string{"statement", "close", inVienna(t, time.Now()).Format(time.DateOnly)}, "is open until"},
		{[]string{"statement", "--window", "May"}, `a window "May"`},
		{[]string{"statement", "Nobody"}, `no tenant "Nobody"`},
		{[]string{"statement", "--by", "kind"}, "name it"},
		{[]string{"statement", "Label Press", "--by", "wine"}, "host, pools, kind"},
		{[]string{"statement", "Nobody", "--as", "csv"}, "Nobody has no statement"},
		{[]string{"statement", "correct", "one", "cpu", "1"}, "no number of a statement"},
		{[]string{"statement", "correct", "9999", "cpu", "1", "--reason", "x"}, "no closed statement 9999"},
		{[]string{"statement", "correct", "1", "cpu", "much", "--reason", "x"}, "no decimal number"},
		{[]string{"statement", "correct", "1", "cpu", "1"}, "say why"},
		{[]string{"statement", "corrections", "remove", "1"}, "what is in one stays"},
	} {
		r := service.run(x.args...)
		assert.NotZero(t, r.code, x.args)
		assert.Contains(t, r.stderr, x.want, "%v", x.args)
	}
	showsStatements(t, service)
}

// showsStatements looks at their pages, and prints one.
func showsStatements(t *testing.T, service *running) {
	b := openConsole(t)
	require.NoError(t, b.SignIn(service.address, service.token))
	require.NoError(t, b.Go(service.address+"/statements"))
	require.NoError(t, b.WaitText("the sum of all statements is the ledger, to the last unit"))
	require.NoError(t, b.WaitText("Closed statements"))
	assert.Empty(t, violations(t, b), "statements")
	require.NoError(t, b.Go(service.address+"/statements?window=last"))
	require.NoError(t, b.WaitText("closed "))
	_, err := browser.Eval[bool](b, `([...document.querySelectorAll('main a')].find(x => x.innerText === 'Label Press')
		.click(), true)`)
	require.NoError(t, err)
	require.NoError(t, b.WaitText("SHA-256 over all lines"))
	require.NoError(t, b.WaitText("corrected by hand"))
	assert.Empty(t, violations(t, b), "statement")
	paper, err := b.PDF()
	require.NoError(t, err)
	assert.True(t, bytes.HasPrefix(paper, []byte("%PDF-")))
	assert.Contains(t, string(paper), "/MediaBox [0 0 594.95996 841.91998]", "A4")
	require.NoError(t, b.Print(true))
	shown, err := browser.Eval[string](b, `[...document.querySelectorAll('header, nav, button, svg, form')]
		.filter(e => e.getClientRects().length > 0 && !e.closest('article')).map(e => e.tagName).join()`)
	require.NoError(t, err)
	assert.Empty(t, shown, "nothing of the console is on paper")
	require.NoError(t, b.Print(false))

	require.NoError(t, b.Go(service.address+"/tenants/Label Press"))
	require.NoError(t, b.WaitText("the window that runs"))
	require.NoError(t, b.WaitText("number "))
}

func TestConsole_APlanIsShownAndItsStepsAreActs(t *testing.T) {
	b := openConsole(t)
	require.NoError(t, b.SignIn(demo.address, demo.token))
	require.NoError(t, b.Go(demo.address+"/plan?cpus=4&holder=Bottling%20Line"))
	require.NoError(t, b.WaitText("Had it been so over this span"))
	assert.Empty(t, violations(t, b), "plan")
	// Which step is the first depends on what other tests have declared; only it can be begun.
	first, err := browser.Eval[string](b, `(() => { const all = [...document.querySelectorAll('ol button')]
		const open = all.filter(x => !x.disabled); if (open.length !== 1) return 'open: ' + open.length
		if (open[0] === all[0] && open[0].innerText !== 'Record it') open[0].click(); return all[0].innerText })()`)
	require.NoError(t, err)
	assert.Contains(t, []string{"Record it", "Carry it out …"}, first)
	if first != "Record it" {
		require.NoError(t, b.WaitText("Touches 1 process"))
	}
}
