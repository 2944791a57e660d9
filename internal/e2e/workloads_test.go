package e2e

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/internal/browser"
)

// TestWorkloads_AreFoundGroupedAndShownAsOneLikes goes through the list as somebody does who looks for a workload.
func TestWorkloads_AreFoundGroupedAndShownAsOneLikes(t *testing.T) {
	b := openConsole(t)
	require.NoError(t, b.SignIn(demo.address, demo.token))
	require.NoError(t, b.Go(demo.address+"/workloads"))
	require.NoError(t, b.WaitText("curd-fermentlog"))
	assert.Empty(t, violations(t, b))
	press := func(name string) {
		t.Helper()
		_, err := browser.Eval[bool](b,
			"([...document.querySelectorAll('button')].find(x => x.innerText.trim() === '"+name+"').click(), true)")
		require.NoError(t, err, name)
	}
	heads := func() string {
		text, err := browser.Eval[string](b,
			"[...document.querySelectorAll('main thead th')].map(x => x.innerText.trim()).join('|')")
		require.NoError(t, err)
		return text
	}

	press("Signed in")
	require.NoError(t, b.WaitText("sign-in 31 of l.roth"))
	assert.Equal(t, "/workloads?kind=session", address(t, b))
	assert.Contains(t, heads(), "From where|Since|Terminal")
	press("Services")
	require.NoError(t, b.WaitText("journal"))
	require.NoError(t, b.WaitFor("!document.body.innerText.includes('sign-in 31')"))

	// Words, and an expression, which the address carries.
	press("All")
	require.NoError(t, b.Type("main input[type=search]", "intake svc-cellar"))
	require.NoError(t, b.WaitFor("location.search.includes('words=intake')"), "the address carries what was typed")
	require.NoError(t, b.WaitFor("document.querySelectorAll('main tbody tr').length === 3"))
	require.NoError(t, b.Go(demo.address+"/workloads?words="+
		"kind%20%3D%3D%20%22vm%22%20%7C%7C%20name%20%3D%3D%20%22journal%22&by=kind"))
	require.NoError(t, b.WaitText("1 workload"))
	groups, err := browser.Eval[string](b,
		"[...document.querySelectorAll('main li > button b')].map(x => x.innerText.slice(2)).sort().join()")
	require.NoError(t, err)
	assert.Equal(t, "service,vm", groups)
	_, err = browser.Eval[bool](b, "([...document.querySelectorAll('main li > button')].find(x => "+
		"x.innerText.includes('vm')).click(), true)")
	require.NoError(t, err)
	require.NoError(t, b.WaitText("bottling-plc"))
	assert.Empty(t, violations(t, b))
	require.NoError(t, b.Go(demo.address+"/workloads?words=%28"))
	require.NoError(t, b.WaitFor("document.querySelector('main [role=alert], main')?.innerText.includes('filter')"))

	// While an expression is typed, it is offered how it could go on.
	require.NoError(t, b.Go(demo.address+"/workloads"))
	require.NoError(t, b.WaitText("curd-fermentlog"))
	require.NoError(t, b.Type("main input[type=search]", "kind == 'job' && host == 'pr"))
	require.NoError(t, b.WaitFor(`[...document.querySelectorAll('main datalist option')].some(o =>
		o.value === "kind == 'job' && host == 'press-1'")`))

	// A width that was dragged, and columns that were chosen and moved, stay.
	require.NoError(t, b.Go(demo.address+"/workloads"))
	require.NoError(t, b.WaitText("curd-fermentlog"))
	const head = "document.querySelector('main thead th > div')"
	_, err = browser.Eval[bool](b, "("+head+".style.width = '321px', "+head+
		".dispatchEvent(new PointerEvent('pointerup', { bubbles: true })), true)")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		_, _, kept := call(t, "GET", demo.address+"/api/v1/me/choices", demo.token, "", nil)
		return strings.Contains(string(kept), `"name":321`)
	}, patience, 50*time.Millisecond)
	require.NoError(t, b.Go(demo.address+"/workloads"))
	require.NoError(t, b.WaitText("curd-fermentlog"))
	require.NoError(t, b.WaitFor(head+".style.width === '321px'"))
	press("columns…")
	require.NoError(t, b.WaitFor("document.querySelector('[aria-label=Columns]')"))
	assert.Empty(t, violations(t, b))
	for _, label := range []string{"Owner", "Threads"} {
		_, err = browser.Eval[bool](b, "([...document.querySelectorAll('[aria-label=Columns] label')].find(x => "+
			"x.innerText.trim() === '"+label+"').querySelector('input').click(), true)")
		require.NoError(t, err)
	}
	require.NoError(t, b.Click(`[aria-label="Host further left"]`))
	require.NoError(t, b.Go(demo.address+"/workloads"))
	require.NoError(t, b.WaitText("curd-fermentlog"))
	assert.Regexp(t, `^Workload\|Host\|Tenant\|CPU.*\|State\|Threads\|Acts$`, heads())

	press("Workload")
	require.NoError(t, b.WaitFor("document.querySelector('main tbody th').innerText.startsWith('barrel-sense')"))
	assert.Empty(t, violations(t, b))

	require.NoError(t, b.Resize(420, 800))
	require.NoError(t, b.WaitFor("document.documentElement.scrollWidth <= 420"))
	assert.Empty(t, violations(t, b))
}

// TestHosts_AreAMapToo: a bar a host, by pool, which leads to the host.
func TestHosts_AreAMapToo(t *testing.T) {
	b := openConsole(t)
	require.NoError(t, b.SignIn(demo.address, demo.token))
	require.NoError(t, b.Go(demo.address+"/hosts"))
	require.NoError(t, b.WaitText("as a map"))
	_, err := browser.Eval[bool](b,
		"([...document.querySelectorAll('button')].find(x => x.innerText === 'as a map').click(), true)")
	require.NoError(t, err)
	require.NoError(t, b.WaitFor("document.querySelectorAll('main li a').length >= 4"))
	assert.Empty(t, violations(t, b))
	words, err := browser.Eval[string](b, "document.querySelector('main li a[aria-label^=cellar-1]').ariaLabel")
	require.NoError(t, err)
	assert.Regexp(t, `^cellar-1: \d+\.\d\d cores of 16\.00 cores, \d+ %, reporting$`, words)
	require.NoError(t, b.Click("main li a[aria-label^=cellar-1]"))
	require.NoError(t, b.WaitFor("location.pathname === '/hosts/cellar-1'"))
}
