package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/folio"
	"vinescale/internal/browser"
	"vinescale/internal/hub"
)

// reached moves the focus by the tabulator until it is on what has a name, as whoever uses no mouse does.
func reached(t *testing.T, b *browser.Browser, name string) {
	t.Helper()
	for range 150 {
		is, err := browser.Eval[string](b, `(() => { const e = document.activeElement
			return e.getAttribute('aria-label') || e.labels?.[0]?.innerText || e.innerText || '' })()`)
		require.NoError(t, err)
		if strings.HasPrefix(strings.TrimSpace(is), name) {
			return
		}
		require.NoError(t, b.Press(kb.Tab))
	}
	require.Fail(t, "the tabulator does not come to "+name)
}

// pressedKey goes to what has a name, and presses the key of it.
func pressedKey(t *testing.T, b *browser.Browser, name, key string, shift ...bool) {
	t.Helper()
	reached(t, b, name)
	require.NoError(t, b.Press(key, shift...))
}

// plates are what a page shows, row by row.
const plates = `[...document.querySelectorAll('[data-row]')].map(r => [...r.querySelectorAll('[data-plate] article')]
	.map(s => s.getAttribute('aria-label').split(',')[0]).join(' + ')).join(' / ')`

func showsPlates(t *testing.T, b *browser.Browser, want string) {
	t.Helper()
	if err := b.WaitFor(fmt.Sprintf("(%s) === %q", plates, want)); err != nil {
		is, _ := browser.Eval[string](b, plates)
		require.Equal(t, want, is)
	}
}

func keptFolio(t *testing.T, r *running, token, name string) hub.KeptFolio {
	status, _, body := call(t, http.MethodGet, r.address+"/api/v1/folios/"+name, token, "", nil)
	require.Equal(t, 200, status, string(body))
	var k hub.KeptFolio
	require.NoError(t, json.Unmarshal(body, &k))
	return k
}

// TestFolio_IsComposedByTheKeyboardAloneAndIsTheSameElsewhere composes one, takes it away, and brings it into a fresh
// service.
func TestFolio_IsComposedByTheKeyboardAloneAndIsTheSameElsewhere(t *testing.T) {
	made := demo.run("token", "add", "m.vogt", "--role", "reader")
	require.Zero(t, made.code, made.stderr)
	t.Cleanup(func() { demo.run("token", "remove", "m.vogt") })
	token := tokenIn(t, made.stdout)
	b := openConsole(t)
	require.NoError(t, b.SignIn(demo.address, token))
	require.NoError(t, b.Go(demo.address+"/folios"))
	require.NoError(t, b.WaitText("Fleet at a glance"))
	assert.Empty(t, violations(t, b), "the list")
	reached(t, b, "Title of the new folio")
	require.NoError(t, b.Press("Press night"+kb.Enter))
	require.NoError(t, b.WaitText("It has no plates yet"))

	add := func(words, by string) {
		t.Helper()
		pressedKey(t, b, "Add a plate", kb.Enter)
		require.NoError(t, b.WaitText("Choose what it shows."))
		require.NoError(t, b.Press(words+kb.Enter))
		if by != "" {
			reached(t, b, "Grouped by")
			require.NoError(t, b.Press(by))
		}
		pressedKey(t, b, "Add it", kb.Enter)
		require.NoError(t, b.WaitFor("!document.querySelector('[role=dialog]')"))
	}
	add("cpu", "tenant")
	showsPlates(t, b, "CPU by tenant")
	add("memory", "")
	add("signed in", "")
	showsPlates(t, b, "CPU by tenant + Memory + Signed in")
	add("cpu wait", "host")
	showsPlates(t, b, "CPU by tenant + Memory + Signed in / CPU wait by host")
	require.NoError(t, b.WaitFor("!document.querySelector('main').innerText.includes('Adding up')"))
	assert.Empty(t, violations(t, b), "while it is composed")

	pressedKey(t, b, "Move Memory", kb.ArrowLeft)
	showsPlates(t, b, "Memory + CPU by tenant + Signed in / CPU wait by host")
	require.NoError(t, b.Press(kb.ArrowDown)) // the focus went with it
	showsPlates(t, b, "CPU by tenant + Signed in / Memory / CPU wait by host")
	require.NoError(t, b.Press(kb.ArrowDown))
	showsPlates(t, b, "CPU by tenant + Signed in / CPU wait by host + Memory")
	require.NoError(t, b.Press(kb.ArrowRight, true))
	require.NoError(t, b.Press(kb.ArrowRight, true))
	require.NoError(t, b.Press(kb.ArrowLeft, true))
	pressedKey(t, b, "Copy Memory", kb.Enter)
	showsPlates(t, b, "CPU by tenant + Signed in / CPU wait by host + Memory + Memory")
	pressedKey(t, b, "Remove CPU wait by host", kb.Enter)
	showsPlates(t, b, "CPU by tenant + Signed in / Memory + Memory")
	pressedKey(t, b, "Undo", kb.Enter)
	showsPlates(t, b, "CPU by tenant + Signed in / CPU wait by host + Memory + Memory")
	pressedKey(t, b, "Do it again", kb.Enter)
	showsPlates(t, b, "CPU by tenant + Signed in / Memory + Memory")
	pressedKey(t, b, "Change CPU by tenant", kb.Enter)
	require.NoError(t, b.WaitText("How it is drawn"))
	assert.Empty(t, violations(t, b), "a plate while it is changed")
	reached(t, b, "a stack")
	require.NoError(t, b.Press(kb.ArrowDown)) // to the next form
	reached(t, b, "Title")
	require.NoError(t, b.Press("Whose CPU"))
	pressedKey(t, b, "Change it", kb.Enter)
	showsPlates(t, b, "Whose CPU + Signed in / Memory + Memory")
	reached(t, b, "What it is for")
	require.NoError(t, b.Press("When the presses run."))
	require.NoError(t, b.WaitFor("document.querySelector('main [role=status]').innerText.trim().startsWith('kept')"))
	pressedKey(t, b, "Done", kb.Enter)
	require.NoError(t, b.WaitText("Take it away"))
	require.NoError(t, b.WaitFor("!document.querySelector('main').innerText.includes('Adding up')"))
	assert.Empty(t, violations(t, b), "as it is looked at")

	fleet := folio.Subject{Kind: folio.Fleet}
	want := folio.Folio{Format: 1, Title: "Press night", About: "When the presses run.", Rows: []folio.Row{
		{Plates: []folio.Plate{{Title: "Whose CPU", Of: "cpu", Subject: fleet, By: "tenant", Form: "parts"},
			{Of: "signed_in", Subject: fleet}}},
		{Plates: []folio.Plate{{Of: "memory", Subject: fleet, Width: 2}, {Of: "memory", Subject: fleet, Width: 2}}},
	}}
	assert.Equal(t, want, keptFolio(t, demo, token, "press-night").Folio)

	// Elsewhere it is the same, and its page shows that there is nothing yet.
	taken := demo.run("folio", "export", "press-night", "--token", token)
	require.Zero(t, taken.code, taken.stderr)
	file := filepath.Join(t.TempDir(), "night.json")
	require.NoError(t, os.WriteFile(file, []byte(taken.stdout), 0o600))
	fresh := serve(t, dataDir(t))
	brought := fresh.run("folio", "import", file, "--share")
	require.Zero(t, brought.code, brought.stderr)
	assert.Contains(t, brought.stdout, "/folios/press-night")
	back := fresh.run("folio", "export", "press-night")
	assert.Equal(t, taken.stdout, back.stdout)
	listed := fresh.run("folio", "list", "--as", "csv")
	assert.Contains(t, listed.stdout, "press-night,Press night,shared,administrator,4,")
	status, _, schema := call(t, http.MethodGet, fresh.address+"/api/v1/folio-schema", fresh.token, "", nil)
	require.Equal(t, 200, status)
	assert.JSONEq(t, execute(nil, "docs", "folio-schema").stdout, string(schema))
	elsewhere := openConsole(t)
	require.NoError(t, elsewhere.SignIn(fresh.address, fresh.token))
	require.NoError(t, elsewhere.Go(fresh.address+"/folios/press-night"))
	require.NoError(t, elsewhere.WaitText("Nothing was told of it in this span"))
	require.Zero(t, fresh.run("folio", "remove", "press-night").code)
	gone := fresh.run("folio", "export", "press-night")
	assert.Equal(t, 1, gone.code)
	assert.Contains(t, gone.stderr, "there is no folio")
	const onePlate = `{"format":1,"title":"x","rows":[{"plates":[{%s,"subject":{"kind":"fleet"}}]}]}`
	for words, text := range map[string]string{
		"is no folio as":                   `{"rows": 3}`,
		"format: 7 is not known":           `{"format": 7, "title": "x", "rows": []}`,
		"row 1, plate 1: of: there is no":  fmt.Sprintf(onePlate, `"of":"must"`),
		"title: a folio needs one":         `{"format": 1}`,
		"makes no sense of cpu of a fleet": fmt.Sprintf(onePlate, `"of":"cpu","form":"parts"`),
	} {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		refused := fresh.run("folio", "import", file)
		assert.Equal(t, 2, refused.code, text)
		assert.Contains(t, refused.stderr, words)
	}
}

// TestFolio_PlatesAreDragged moves plates by the mouse, and has two people change the same folio.
func TestFolio_PlatesAreDraggedAndASecondChangeIsTold(t *testing.T) {
	fleet := folio.Subject{Kind: folio.Fleet}
	page := folio.Folio{Format: 1, Title: "Dragged", Rows: []folio.Row{
		{Height: "low", Plates: []folio.Plate{{Of: "cpu", Subject: fleet}, {Of: "memory", Subject: fleet}}},
		{Height: "low", Plates: []folio.Plate{{Of: "hosts", Subject: fleet, Form: "number"}}}}}
	raw, err := json.Marshal(map[string]any{"folio": page, "shared": true})
	require.NoError(t, err)
	status, _, body := call(t, http.MethodPost, demo.address+"/api/v1/folios", demo.token, "application/json",
		bytes.NewReader(raw))
	require.Equal(t, 201, status, string(body))
	t.Cleanup(func() { demo.run("folio", "remove", "dragged") })
	b := openConsole(t)
	require.NoError(t, b.SignIn(demo.address, demo.token))
	require.NoError(t, b.Go(demo.address+"/folios/dragged?compose=true"))
	showsPlates(t, b, "CPU + Memory / Hosts")
	require.NoError(t, b.WaitFor("!document.querySelector('main').innerText.includes('Adding up')"))
	drag := func(name, to string, part float64) {
		t.Helper()
		spot := func(selector string, part float64) (x, y float64) {
			at, err := browser.Eval[[]float64](b, fmt.Sprintf(`(() => { const r = document.querySelector(%q)
				.getBoundingClientRect(); return [r.left + %f * r.width, r.top + r.height / 2] })()`, selector, part))
			require.NoError(t, err)
			return at[0], at[1]
		}
		x0, y0 := spot(fmt.Sprintf("button[aria-label^='Move %s']", name), 0.5)
		x1, y1 := spot(to, part)
		require.NoError(t, b.Drag(x0, y0, x1, y1))
	}
	drag("Hosts", "article[aria-label^='Memory']", 0.2)
	showsPlates(t, b, "CPU + Hosts + Memory")
	drag("CPU", "article[aria-label^='Memory']", 0.9)
	showsPlates(t, b, "Hosts + Memory + CPU")
	drag("Memory", "[data-gap='0']", 0.5)
	showsPlates(t, b, "Memory / Hosts + CPU")
	drag("CPU", "article[aria-label^='Hosts']", 0.1)
	showsPlates(t, b, "Memory / CPU + Hosts")
	require.Eventually(t, func() bool {
		rows := keptFolio(t, demo, demo.token, "dragged").Folio.Rows
		return len(rows) == 2 && rows[0].Plates[0].Of == "memory" && rows[1].Plates[0].Of == "cpu"
	}, patience, 100*time.Millisecond)

	// Somebody else changed it meanwhile: what is done now is not kept over that, and whoever does it is told.
	page.Title = "Changed elsewhere"
	raw, err = json.Marshal(map[string]any{"folio": page, "shared": true})
	require.NoError(t, err)
	status, _, body = call(t, http.MethodPut, demo.address+"/api/v1/folios/dragged", demo.token, "application/json",
		bytes.NewReader(raw))
	require.Equal(t, 200, status, string(body))
	_, err = browser.Eval[bool](b, "document.querySelector(\"button[aria-label='Copy CPU']\").click(), true")
	require.NoError(t, err)
	require.NoError(t, b.WaitText("changed meanwhile"))
	assert.Equal(t, page, keptFolio(t, demo, demo.token, "dragged").Folio)
}

// TestStrip_IsOnEveryPageAndInAWindowOfItsOwn puts figures in view.
func TestStrip_IsOnEveryPageAndInAWindowOfItsOwn(t *testing.T) {
	made := demo.run("token", "add", "s.ahr", "--role", "reader")
	require.Zero(t, made.code, made.stderr)
	t.Cleanup(func() { demo.run("token", "remove", "s.ahr") })
	b := openConsole(t)
	require.NoError(t, b.SignIn(demo.address, tokenIn(t, made.stdout)))
	pressedKey(t, b, "in view", kb.Enter)
	for i, words := range []string{"cpu", "memory", "hosts"} {
		pressedKey(t, b, "add a figure", kb.Enter)
		require.NoError(t, b.WaitText("Choose what it shows."))
		require.NoError(t, b.Press(words+kb.Enter))
		pressedKey(t, b, "Add it", kb.Enter)
		require.NoError(
			t,
			b.WaitFor(fmt.Sprintf("document.querySelectorAll('[aria-label=\"In view\"] h2').length === %d",
				i+1)),
		)
	}
	const told = `document.querySelector('[aria-label="In view"]')?.innerText ?? ''`
	for _, path := range []string{"/hosts", "/hosts/cellar-1?span=24h",
		"/disks?from=2026-11-01T00:00:00Z&to=2026-11-02T00:00:00Z"} {
		require.NoError(t, b.Go(demo.address+path))
		require.NoError(t, b.WaitFor(told+".match(/CPU[^]*\\d cores[^]*Memory[^]*GiB of[^]*Hosts[^]*4 hosts/)"), path)
	}
	assert.Empty(t, violations(t, b))
	require.NoError(t, b.Go(demo.address+"/strip"))
	require.NoError(t, b.WaitFor(told+".match(/CPU[^]*\\d cores[^]*4 hosts/)"))
	assert.Empty(t, violations(t, b), "in its window")
	has, err := browser.Eval[bool](b, "!!document.querySelector('nav')")
	require.NoError(t, err)
	assert.False(t, has, "a window of the strip alone")
	require.NoError(t, b.Go(demo.address+"/hosts"))
	pressedKey(t, b, "put away", kb.Enter)
	require.NoError(t, b.WaitFor(told+" === ''"))
	pressedKey(t, b, "in view", kb.Enter)
	require.NoError(t, b.WaitFor(told+".includes('4 hosts')"))
	pressedKey(t, b, "change", kb.Enter)
	pressedKey(t, b, "remove Memory", kb.Enter)
	require.NoError(t, b.WaitFor("!("+told+").includes('Memory')"))
}
