package e2e

import (
	"bytes"
	"encoding/json"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vinescale/core/amount"
	"vinescale/core/folio"
	"vinescale/internal/browser"
)

// watched tells, of every refresh of the page since it is watched, from its first change to its last, in milliseconds.
const watched = `(() => { const all = []; for (const at of changes) { const l = all.at(-1)
	if (l && at - l.to < 500) l.to = at; else all.push({ from: at, to: at }) }
	return all.slice(1, -1).map(x => x.to - x.from) })()`

// bare parses the same answers, and writes the mean of each into an element: what any page would have to do.
const bare = `(async () => { const texts = await Promise.all(asks.map(a => fetch(a).then(r => r.text())))
	const place = document.createElement('div'); document.body.append(place)
	const parts = texts.map(() => place.appendChild(document.createElement('p')))
	const began = performance.now()
	texts.forEach((t, i) => { parts[i].textContent = JSON.parse(t).groups.map(g => g.mean_whole).join(' ') })
	place.getBoundingClientRect()
	const took = performance.now() - began; place.remove(); return took })()`

// BenchmarkFolio_OfFiftyPlatesLive has the console follow fifty drawings at five seconds.
func BenchmarkFolio_OfFiftyPlatesLive(b *testing.B) { fiftyPlates(b, "?live=5s", 22*time.Second) }

// BenchmarkFolio_OfFiftyPlates has the console draw fifty plates of the book anew whenever that has more.
func BenchmarkFolio_OfFiftyPlates(b *testing.B) { fiftyPlates(b, "", 200*time.Second) }

// fiftyPlates watches such a page for a time.
func fiftyPlates(b *testing.B, search string, watch time.Duration) {
	t := &testing.T{}
	f := folio.Folio{Format: 1, Title: "Fifty plates"}
	for _, m := range amount.Measures() {
		for _, by := range []string{"tenant", ""} {
			p := folio.Plate{Of: m.String(), By: by, Subject: folio.Subject{Kind: folio.Fleet}}
			if n := len(f.Rows); n == 0 || len(f.Rows[n-1].Plates) == 5 {
				f.Rows = append(f.Rows, folio.Row{Height: "low"})
			}
			if r := &f.Rows[len(f.Rows)-1]; len(f.Rows) <= 10 {
				r.Plates = append(r.Plates, p)
			}
		}
	}
	f.Rows = f.Rows[:10]
	raw, err := json.Marshal(map[string]any{"folio": f, "shared": false})
	require.NoError(b, err)
	status, _, body := call(t, http.MethodPost, demo.address+"/api/v1/folios", demo.token, "application/json",
		bytes.NewReader(raw))
	require.Equal(b, http.StatusCreated, status, string(body))
	defer demo.run("folio", "remove", "fifty-plates")
	page, done, err := browser.Open(b.Context())
	require.NoError(b, err)
	defer done()
	require.NoError(b, page.SignIn(demo.address, demo.token))
	require.NoError(b, page.Go(demo.address+"/folios/fifty-plates"+search))
	require.NoError(b, page.WaitFor("document.querySelectorAll('[data-plate]').length === 50"))
	require.NoError(b, page.WaitFor("!document.querySelector('main').innerText.includes('Adding up')"))
	_, err = browser.Eval[bool](page, `window.changes = [], window.asks = performance.getEntriesByType('resource')
		.map(x => x.name).filter(x => x.includes('/series?')),
		new MutationObserver(() => changes.push(performance.now()))
		.observe(document.querySelector('main'), { subtree: true, childList: true, characterData: true }), true`)
	require.NoError(b, err)
	var sum, floor float64
	n := 0
	for b.Loop() {
		time.Sleep(watch)
		took, err := browser.Eval[[]float64](page, watched)
		require.NoError(b, err)
		for _, ms := range took {
			sum += ms
			n++
		}
		least, err := browser.Eval[float64](page, bare)
		require.NoError(b, err)
		floor += least
	}
	require.Positive(b, n)
	b.ReportMetric(sum/float64(n), "ms/refresh")
	b.ReportMetric(sum/float64(n)/(floor/float64(b.N)), "x-of-floor")
	b.ReportMetric(0, "ns/op")
}
