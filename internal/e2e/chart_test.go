package e2e

import (
	"net/url"
	"testing"
	"time"

	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/internal/browser"
)

// TestChart_OfHostsParts shows how drives and sensors went, whichever of their figures is chosen.
func TestChart_OfHostsParts(t *testing.T) {
	b := openConsole(t)
	require.NoError(t, b.Resize(1280, 900))
	require.NoError(t, b.SignIn(demo.address, demo.token))
	for path, x := range map[string]struct{ part, choose, want string }{
		"/disks":          {"drive", "latency", "sda of cellar-1"},
		"/network":        {"interface", "sent", "eth0 of press-1"},
		"/gpus":           {"gpu", "memory taken", "GPU 0 of terrace-1"},
		"/hosts/cellar-1": {"sensor", "Fan", "board front fan"},
	} {
		require.NoError(t, b.Go(demo.address+path))
		sheet := `document.querySelector('section[aria-labelledby=went-` + x.part + `]')`
		require.NoError(t, b.WaitFor(sheet), path)
		_, err := browser.Eval[bool](b, `(`+sheet+`.scrollIntoView(), true)`)
		require.NoError(t, err)
		require.NoError(t, b.WaitFor(sheet+`.querySelector('canvas')`), path)
		_, err = browser.Eval[bool](
			b,
			`([...`+sheet+`.querySelectorAll('button')].find(x => x.innerText === '`+x.choose+
				`').click(), true)`,
		)
		require.NoError(t, err)
		require.NoError(t, b.WaitFor(sheet+".innerText.includes('"+x.want+"')"), path)
		assert.Empty(t, violations(t, b), path)
	}
}

// TestChart_IsReadByMouseByKeysAndAsATable goes over a host's chart: it tells each moment, drags out a span that the
// address carries, and shows the same as a table.
func TestChart_IsReadByMouseByKeysAndAsATable(t *testing.T) {
	b := openConsole(t)
	require.NoError(t, b.Resize(1280, 900))
	require.NoError(t, b.SignIn(demo.address, demo.token))
	require.NoError(t, b.Go(demo.address+"/hosts/cellar-1"))
	const chart = `document.querySelector('section[aria-labelledby=went-title]')`
	require.NoError(t, b.WaitFor(chart+`?.querySelector('canvas')`))
	require.NoError(t, b.WaitText("The scale is from 0 to 16 cores: the host’s capacity."))
	require.NoError(t, b.WaitText("mean of the span"))
	assert.Empty(t, violations(t, b))

	drawn, err := browser.Eval[bool](b, `(() => { const c = `+chart+`.querySelector('canvas')
		const d = c.getContext('2d').getImageData(0, 0, c.width, c.height).data
		const colours = new Set(); for (let i = 0; i < d.length; i += 4) if (d[i + 3] === 255)
			colours.add(d[i] + ',' + d[i + 1] + ',' + d[i + 2])
		return colours.size > 5 })()`)
	require.NoError(t, err)
	assert.True(t, drawn, "there is something on it, of several tenants")

	_, err = browser.Eval[bool](b, `(`+chart+`.querySelector('[role=img]').focus(), true)`)
	require.NoError(t, err)
	require.NoError(t, b.Press(kb.ArrowLeft)) // the last moment
	require.NoError(t, b.WaitFor(chart+`.querySelector('caption').innerText.startsWith('from ')`))
	before, err := browser.Eval[string](b, chart+`.querySelector('caption').innerText`)
	require.NoError(t, err)
	require.NoError(t, b.Press(kb.ArrowLeft))
	require.NoError(t, b.WaitFor(chart+".querySelector('caption').innerText !== `"+before+"`"))

	_, err = browser.Eval[bool](b, `(`+chart+`.scrollIntoView(), true)`)
	require.NoError(t, err)
	box, err := browser.Eval[[]float64](b, `(() => {
		const r = `+chart+`.querySelector('.u-over').getBoundingClientRect()
		return [r.left, r.top, r.width, r.height] })()`)
	require.NoError(t, err)
	y := box[1] + box[3]/2
	require.NoError(t, b.Drag(box[0]+box[2]*0.25, y, box[0]+box[2]*0.5, y))
	require.NoError(t, b.WaitFor(`location.search.includes('from=')`))
	at, err := url.Parse(address(t, b))
	require.NoError(t, err)
	from, err := time.Parse(time.RFC3339, at.Query().Get("from"))
	require.NoError(t, err)
	to, err := time.Parse(time.RFC3339, at.Query().Get("to"))
	require.NoError(t, err)
	assert.InDelta(t, 15, to.Sub(from).Minutes(), 2, "a quarter of an hour")

	_, err = browser.Eval[bool](b, `([...`+chart+
		`.querySelectorAll('button')].find(x => x.innerText === 'as a table').click(), true)`)
	require.NoError(t, err)
	require.NoError(t, b.WaitFor(chart+`.querySelectorAll('tbody tr').length >= 14`))
	assert.Empty(t, violations(t, b))
}

// TestPlacement_IsReadByMouseByKeysAndAsATable on a host whose virtual machine holds CPUs 12-15, of which a container
// takes two in the afternoon.
func TestPlacement_IsReadByMouseByKeysAndAsATable(t *testing.T) {
	b := openConsole(t)
	require.NoError(t, b.SignIn(demo.address, demo.token))
	require.NoError(t, b.Go(demo.address+"/hosts/cellar-1"))
	const sheet = `document.querySelector('section[aria-labelledby=placement-title]')`
	require.NoError(t, b.WaitFor(sheet+`?.querySelector('canvas')?.width > 300`))
	require.NoError(t, b.WaitText("Bottling Line on 1"))
	colours, err := browser.Eval[int](b, `(() => { const c = `+sheet+`.querySelector('canvas')
		const d = c.getContext('2d').getImageData(0, 0, c.width, c.height).data
		const colours = new Set(); for (let i = 0; i < d.length; i += 4)
			colours.add(d[i] + ',' + d[i + 1] + ',' + d[i + 2])
		return colours.size })()`)
	require.NoError(t, err)
	assert.Greater(t, colours, 8, "several tenants, more and less busy")

	_, err = browser.Eval[bool](b, `(`+sheet+`.scrollIntoView(), `+sheet+`.querySelector('[role=img]').focus(), true)`)
	require.NoError(t, err)
	require.NoError(t, b.Press(kb.ArrowLeft))
	require.NoError(t, b.Press(kb.ArrowDown))
	require.NoError(t, b.WaitFor(sheet+`.innerText.includes('CPU 1, from ')`))
	assert.Empty(t, violations(t, b))
	box, err := browser.Eval[[]float64](b, `(() => {
		const r = `+sheet+`.querySelector('canvas').getBoundingClientRect()
		return [r.left, r.top, r.width, r.height] })()`)
	require.NoError(t, err)
	y := box[1] + box[3]*(14.5/16)
	require.NoError(t, b.Drag(box[0]+box[2]*0.2, y, box[0]+box[2]*0.6, y))
	require.NoError(t, b.WaitFor(`location.search.includes('from=')`))

	_, err = browser.Eval[bool](b, `([...`+sheet+
		`.querySelectorAll('button')].find(x => x.innerText === 'as a table').click(), true)`)
	require.NoError(t, err)
	require.NoError(t, b.WaitFor(sheet+`.querySelectorAll('tbody tr').length === 16`))
	assert.Empty(t, violations(t, b))
}
