package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/internal/browser"
)

func openConsole(t *testing.T) *browser.Browser {
	b, done, err := browser.Open(context.Background())
	require.NoError(t, err)
	t.Cleanup(done)
	return b
}

// violations runs axe on the page as it is.
func violations(t *testing.T, b *browser.Browser) []string {
	axe, err := os.ReadFile("../../web/node_modules/axe-core/axe.min.js")
	require.NoError(t, err, "make test installs it")
	_, err = browser.Eval[bool](b, string(axe)+"; true")
	require.NoError(t, err)
	found, err := browser.Eval[string](b, `axe.run(document,
		{ runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa', 'best-practice'] })
		.then(r => JSON.stringify(r.violations.map(v => v.id + ': ' + v.help + ' at ' +
			v.nodes.map(n => n.target.join(' ')).join(', '))))`)
	require.NoError(t, err)
	var list []string
	require.NoError(t, json.Unmarshal([]byte(found), &list))
	return list
}

func address(t *testing.T, b *browser.Browser) string {
	a, err := browser.Eval[string](b, "location.pathname + location.search")
	require.NoError(t, err)
	return a
}

func TestConsole_FromSignInToAHostsLedger(t *testing.T) {
	b := openConsole(t)
	require.NoError(t, b.Go(demo.address))
	require.NoError(t, b.WaitFor("document.querySelector('#token')"))
	assert.Empty(t, violations(t, b), "sign-in")
	require.NoError(t, b.Type("#token", "vs_wrong"))
	require.NoError(t, b.Click("button[type=submit]"))
	require.NoError(t, b.WaitText("token is not known here"))

	require.NoError(t, b.SignIn(demo.address, demo.token))
	require.NoError(t, b.WaitText("curd-fermentlog of Cellar Intake ran for"))
	require.NoError(t, b.WaitText("The hosts under it"))
	require.NoError(t, b.WaitText("terrace-2"))
	require.NoError(t, b.WaitFor("document.querySelectorAll('table .stack').length >= 16"))
	assert.Empty(t, violations(t, b), "balance")

	// The columns of the table add up to its last line, as shown.
	off, err := browser.Eval[string](b, `(() => {
		const rows = [...document.querySelectorAll('section[aria-label="Balance by tenant"] tbody tr')].slice(1)
		const cell = (r, i) => { const m = /-?[\d,]+(\.\d+)?/.exec(r.cells[i].innerText)
			return m && !r.cells[i].innerText.startsWith('not')
				? Number(m[0].replaceAll(',', '')) : 0 }
		for (const i of [1, 2, 3, 4]) {
			const sum = rows.slice(0, -1).reduce((a, r) => a + cell(r, i), 0), capacity = cell(rows.at(-1), i)
			if (Math.abs(sum - capacity) > 0.1 * rows.length) return 'column ' + i + ': ' + sum + ' of ' + capacity
		}
		return '' })()`)
	require.NoError(t, err)
	assert.Empty(t, off)

	require.NoError(t, b.Click(`a[href^="/hosts/cellar-1"]`))
	require.NoError(t, b.WaitText("shares + kernel + idle + residual = capacity"))
	require.NoError(t, b.WaitText("bottling-plc"))
	assert.Empty(t, violations(t, b), "host")
	require.NoError(t, b.Click(`section[aria-labelledby=workloads-title] button[data-state=off]`))
	require.NoError(t, b.WaitText("by memory"))

	_, err = browser.Eval[bool](b,
		"([...document.querySelectorAll('header button')].find(x => x.innerText === 'dark').click(), true)")
	require.NoError(t, err)
	require.NoError(t, b.WaitFor("document.documentElement.dataset.theme === 'dark'"))
	for path, text := range map[string]string{
		"/": "The hosts under it", "/hosts": "press-1", "/tenants/Cellar%20Intake": "must-intake-1",
		"/events": "was set to",
		"/rules":  "the unit journal.service", "/users/m.abt": "job 41200", "/disks": "curd-fermentlog",
		"/hosts/cellar-1": "Each CPU", "/hosts/press-1": "rack-check.service",
		"/network": "Residual", "/hosts/terrace-2": "asleep for",
		"/gpus": "used by job 5203, which it was not given to", "/hosts/press-1/gpus/3": "shut down from",
	} {
		require.NoError(t, b.Go(demo.address+path))
		require.NoError(t, b.WaitText(text))
		assert.Empty(t, violations(t, b), "%s in dark", path)
	}
}

func TestConsole_TheTimeRulerChoosesASpanThatTheAddressCarries(t *testing.T) {
	b := openConsole(t)
	require.NoError(t, b.SignIn(demo.address, demo.token))
	require.NoError(t, b.WaitText("· live"))
	box, err := browser.Eval[[]float64](b,
		"(() => { const r = document.querySelector('svg.ruler').getBoundingClientRect(); return [r.left, r.top, "+
			"r.width, r.height] })()")
	require.NoError(t, err)
	x := func(part float64) float64 { return box[0] + part*box[2] }
	y := box[1] + box[3]/2
	require.NoError(t, b.Drag(x(0.94), y, x(0.97), y)) // about 43 minutes, an hour and a half ago
	require.NoError(t, b.WaitText("· still"))
	still := address(t, b)
	assert.Regexp(t, `^/\?from=.*&to=.*`, still)
	require.NoError(t, b.WaitText("Frost Watch"))

	require.NoError(t, b.Click(`a[href^="/hosts"]`)) // the span goes along
	require.NoError(t, b.WaitFor("location.pathname === '/hosts'"))
	assert.Contains(t, address(t, b), "from=")
	require.NoError(t, b.Go(demo.address+still)) // and the link is the view
	require.NoError(t, b.WaitText("· still"))

	_, err = browser.Eval[bool](b,
		"([...document.querySelectorAll('button')].find(x => x.innerText === '1 h').click(), true)")
	require.NoError(t, err)
	require.NoError(t, b.WaitText("· live"))
	assert.Equal(t, "/", address(t, b))

	// By keyboard: pick a span by typing it.
	require.NoError(t, b.WaitFor("[...document.querySelectorAll('button')].some(x => x.innerText === 'pick…')"))
	_, err = browser.Eval[bool](b,
		"([...document.querySelectorAll('button')].find(x => x.innerText === 'pick…').focus(), true)")
	require.NoError(t, err)
	require.NoError(t, b.Press("\r"))
	require.NoError(t, b.WaitFor("document.querySelector('#pick-from')"))
	for id, ago := range map[string]time.Duration{"pick-from": 100 * time.Minute, "pick-to": 40 * time.Minute} {
		_, err = browser.Eval[bool](b, fmt.Sprintf(`(() => { const e = document.getElementById(%q)
			Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value').set.call(e, %q)
			e.dispatchEvent(new Event('input', { bubbles: true })); return true })()`, id,
			time.Now().Add(-ago).Format("2006-01-02T15:04")))
		require.NoError(t, err)
	}
	assert.Empty(t, violations(t, b), "pick")
	require.NoError(t, b.Click("form button[type=submit]"))
	require.NoError(t, b.WaitText("· still"))
}

func TestConsole_LiveFiguresRefreshByThemselves(t *testing.T) {
	t.Parallel()
	b := openConsole(t)
	require.NoError(t, b.SignIn(demo.address, demo.token))
	_, err := browser.Eval[bool](b,
		`(window.asked = 0, new PerformanceObserver(l => { for (const e of l.getEntries())
			if (e.name.includes('/balance')) window.asked++ }).observe({ type: 'resource' }), true)`)
	require.NoError(t, err)
	time.Sleep(2 * time.Second)
	before, err := browser.Eval[int](b, "window.asked")
	require.NoError(t, err)
	deadline := time.Now().Add(patience) // hosts report every minute
	for {
		now, err := browser.Eval[int](b, "window.asked")
		require.NoError(t, err)
		if now > before {
			break
		}
		require.True(t, time.Now().Before(deadline), "asked again once figures were committed")
		time.Sleep(time.Second)
	}
}

func TestConsole_ANarrowWindowKeepsTheRulerAndFoldsTables(t *testing.T) {
	b := openConsole(t)
	require.NoError(t, b.Resize(420, 800))
	require.NoError(t, b.SignIn(demo.address, demo.token))
	require.NoError(t, b.WaitText("The hosts under it"))
	wide, err := browser.Eval[bool](b, "document.documentElement.scrollWidth > innerWidth")
	require.NoError(t, err)
	assert.False(t, wide, "the page itself does not scroll sideways")
	ruler, err := browser.Eval[float64](b, "document.querySelector('svg.ruler').getBoundingClientRect().width")
	require.NoError(t, err)
	assert.Greater(t, ruler, 300.0)
	for _, path := range []string{"/", "/hosts", "/disks", "/network", "/gpus", "/events", "/hosts/press-1",
		"/tenants/Cellar Intake", "/users/svc-cellar", "/folios/storage"} {
		require.NoError(t, b.Go(demo.address+path))
		require.NoError(t, b.WaitFor("document.querySelector('main table')"), path)
		require.NoError(t, b.WaitFor("!document.querySelector('main').innerText.includes('Adding up')"), path)
		wider, err := browser.Eval[[]string](b, `[...document.querySelectorAll('.folds')].filter(t => t.scrollWidth >
			t.parentElement.clientWidth + 1).map(t => t.closest('section, article')?.innerText.slice(0, 80))`)
		require.NoError(t, err)
		assert.Empty(t, wider, path)
		wide, err := browser.Eval[int](b, "document.documentElement.scrollWidth")
		require.NoError(t, err)
		assert.LessOrEqual(t, wide, 420, path)
		if path == "/disks" {
			head, err := browser.Eval[string](b, "document.querySelector('.folds tbody td:nth-child(3)').dataset.head")
			require.NoError(t, err)
			assert.Equal(t, "Read", head)
		}
	}
}

func TestConsole_ItsFilesAreServedWithAPolicyThatForbidsForeignCode(t *testing.T) {
	status, header, page := call(t, "GET", demo.address+"/hosts/anything", "", "", nil)
	assert.Equal(t, 200, status)
	assert.True(t, strings.HasPrefix(header.Get("Content-Type"), "text/html"))
	assert.Contains(t, header.Get("Content-Security-Policy"), "default-src 'self'")
	assert.NotContains(t, string(page), "http://")
	assert.NotContains(t, string(page), "https://")
}

// typeInto fills a field as a person would: the page sees every change.
func typeInto(t *testing.T, b *browser.Browser, selector, text string) {
	ok, err := browser.Eval[bool](b, fmt.Sprintf(`(() => { const e = document.querySelector(%q); if (!e) return false
		e.focus(); Object.getOwnPropertyDescriptor(Object.getPrototypeOf(e), 'value').set.call(e, %q)
		e.dispatchEvent(new Event(e.tagName === 'SELECT' ? 'change' : 'input', { bubbles: true }))
		return true })()`, selector, text))
	require.NoError(t, err)
	require.True(t, ok, selector)
}

func TestConsole_FindsAWorkloadByKeyboardAndTellsEverythingAboutIt(t *testing.T) {
	b := openConsole(t)
	require.NoError(t, b.SignIn(demo.address, demo.token))
	require.NoError(t, b.WaitText("The hosts under it"))
	require.NoError(t, b.Press("/")) // the key that goes to the box
	require.NoError(t, b.WaitFor("document.activeElement.getAttribute('role') === 'combobox'"))
	typeInto(t, b, "[role=combobox]", "label-render")
	require.NoError(t, b.WaitFor("document.querySelector('[role=option]')?.innerText.includes('label-render')"))
	assert.Empty(t, violations(t, b), "the list of what was found")
	require.NoError(t, b.Press("\r"))
	require.NoError(t, b.WaitText("Whose it is"))
	assert.Regexp(t, "^/workloads/[0-9]+$", address(t, b))
	for _, text := range []string{"owner == 'svc-label'", "OCI runtime", "2 CPUs, by its limit",
		"they wait for each other", "coop/label-render:2026.4", "On the same disks", "first seen"} {
		require.NoError(t, b.WaitText(text), text)
	}
	assert.Empty(t, violations(t, b), "workload")
	require.NoError(t, b.Click(`a[href^="/users/svc-label"]`))
	require.NoError(t, b.WaitText("label-archive"))
	typeInto(t, b, "[role=combobox]", "no such vineyard")
	require.NoError(t, b.WaitText("Nothing has this"))
}

func TestConsole_ARuleIsTriedBeforeItIsAddedAndNothingChangesByTrying(t *testing.T) {
	b := openConsole(t)
	require.NoError(t, b.SignIn(demo.address, demo.token))
	require.NoError(t, b.Go(demo.address+"/rules"))
	require.NoError(t, b.WaitText("the unit journal.service"))
	require.NoError(t, b.Click(`button[aria-label="Try the rule for the unit journal.service"]`))
	typeInto(t, b, "form select", "Agronomy Desk")
	require.NoError(t, b.Click("form button[type=submit]"))
	require.NoError(t, b.WaitText("would move 4"))
	require.NoError(t, b.WaitText("Nothing is changed yet"))
	assert.Empty(t, violations(t, b), "a rule tried")
	assert.NotContains(t, demo.run("rule", "list").stdout, "journal.service")
	typeInto(t, b, "form textarea", "knd == 'job'")
	require.NoError(t, b.Click("form button[type=submit]"))
	require.NoError(t, b.WaitText("undeclared reference to 'knd'"))

	// A list that changed since it was shown is left alone.
	require.NoError(t, b.WaitText("Harvest Routing"))
	require.Zero(t, demo.run("rule", "move", "1", "2").code)
	require.NoError(t, b.Click(`button[aria-label="Move rule 5 up"]`))
	require.NoError(t, b.WaitText("the rules changed since you saw them"))
	require.Zero(t, demo.run("rule", "move", "2", "1").code)
}
