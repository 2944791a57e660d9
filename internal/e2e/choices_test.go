package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/choice"
	"vinescale/internal/browser"
)

// pressed presses the button that has a text.
func pressed(t *testing.T, b *browser.Browser, text string) {
	found := fmt.Sprintf("[...document.querySelectorAll('button')].find(b => b.innerText.trim() === %q)", text)
	require.NoError(t, b.WaitFor(found))
	_, err := browser.Eval[bool](b, found+".click(), true")
	require.NoError(t, err)
}

// tokenIn finds the token that a command printed.
func tokenIn(t *testing.T, printed string) string {
	for _, word := range strings.Fields(printed) {
		if strings.HasPrefix(word, "vs_") {
			return word
		}
	}
	require.Fail(t, "no token was printed", printed)
	return ""
}

// TestChoices_HoldOnEveryPageForOnePersonAlone chooses in the console, asks every page, and asks somebody else.
func TestChoices_HoldOnEveryPageForOnePersonAlone(t *testing.T) {
	made := demo.run("token", "add", "k.rau", "--role", "reader")
	require.Zero(t, made.code, made.stderr)
	t.Cleanup(func() { demo.run("token", "remove", "k.rau") })
	token := tokenIn(t, made.stdout)
	b := openConsole(t)
	require.NoError(t, b.SignIn(demo.address, token))
	pressed(t, b, "choices…")
	require.NoError(t, b.WaitText("How figures are shown to you"))
	assert.Empty(t, violations(t, b), "choices")
	for _, text := range []string{"by 1,000 (GB)", "bits", "of the limit, or else the host", "dense", "smooth",
		"dark"} { // one after the other, whether the one before is kept yet or not
		pressed(t, b, text)
		require.NoError(t, b.WaitFor(fmt.Sprintf("[...document.querySelectorAll('[data-state=on]')].some(b => "+
			"b.innerText === %q)", text)))
	}
	require.NoError(t, b.Type("input[name=zone]", "Terra/Nova"))
	pressed(t, b, "Use it")
	require.NoError(t, b.WaitText("there is no time zone"))
	_, err := browser.Eval[bool](b, "document.querySelector('input[name=zone]').value = '', true")
	require.NoError(t, err)
	require.NoError(t, b.Type("input[name=zone]", "Pacific/Auckland"))
	pressed(t, b, "Use it")
	auckland, err := time.LoadLocation("Pacific/Auckland")
	require.NoError(t, err)
	require.NoError(t, b.WaitFor(fmt.Sprintf("document.body.innerText.includes('until %02d:')",
		time.Now().In(auckland).Hour())))
	assert.Empty(t, violations(t, b), "choices in the dark")

	for _, page := range []string{"/", "/hosts", "/hosts/cellar-1", "/hosts/press-1", "/workloads", "/disks",
		"/network",
		"/gpus", "/events", "/tenants/Cellar Intake", "/users/svc-cellar", "/workloads/1",
		"/folios/fleet", "/folios/one-host?host=press-1"} {
		require.NoError(t, b.Go(demo.address+page))
		require.NoError(t, b.WaitFor("document.querySelector('main section, main table')"), page)
		require.NoError(t, b.WaitFor("!document.querySelector('main').innerText.includes('Adding up')"), page)
		text, err := browser.Eval[string](b, "document.querySelector('main').innerText")
		require.NoError(t, err)
		if page == "/events" {
			continue // what is on record keeps its words
		}
		// Caches are made by powers of two, and what happened is told as it is on record.
		text = regexp.MustCompile(`(?m)^caches.*$|.* was set to .*`).ReplaceAllString(text, "")
		assert.Empty(t, regexp.MustCompile(`.*\d [KMGT]iB\b.*|.*\d\.\d+ cores\b.*`).FindAllString(text, 3), page)
		if page == "/network" {
			assert.Empty(t, regexp.MustCompile(`.*\d [kMG]?B/s.*`).FindAllString(text, 3), page)
			assert.Regexp(t, `\d [kMG]bit/s`, text, page)
		}
		if page == "/workloads" {
			assert.Regexp(t, `\d % of its limit`, text)
			assert.Regexp(t, `\d % of the host`, text)
			assert.Regexp(t, `\d GB`, text)
		}
		dark, err := browser.Eval[bool](b, "document.documentElement.dataset.theme === 'dark' && "+
			"document.documentElement.dataset.density === 'dense'")
		require.NoError(t, err)
		assert.True(t, dark, page)
	}

	get := func(token string) choice.Choices {
		var c choice.Choices
		status, _, body := call(t, http.MethodGet, demo.address+"/api/v1/me/choices", token, "", nil)
		require.Equal(t, 200, status)
		require.NoError(t, json.Unmarshal(body, &c))
		return c
	}
	assert.Equal(t, choice.Choices{Bytes: "decimal", Network: "bits", CPU: "limit", Theme: "dark", Density: "dense",
		Lines: "smooth", Zone: "Pacific/Auckland"}, get(token))
	assert.Equal(t, choice.Choices{}, get(demo.token), "nobody else's")

	// In a terminal it is the same; what a line says stands above it, and what programs read stays as it is.
	mine := demo.run("workloads", "--first", "5", "--token", token)
	assert.Regexp(t, `cores|memory GB .*network Mbit/s`, mine.stdout, mine.stderr)
	assert.Regexp(t, `\d % of its limit`, mine.stdout)
	here := auckland.String()
	at := time.Now().In(auckland).Format("2006-01-02 15:")
	assert.Contains(t, demo.run("hosts", "--token", token).stdout, at, here)
	said := demo.run(
		"workloads",
		"--first",
		"5",
		"--token",
		token,
		"--show",
		"cpu=percent,bytes=binary,network=bytes",
	)
	assert.Regexp(t, `% of a CPU +memory GiB .*network MiB/s`, said.stdout)
	of := []string{
		"workloads",
		"--first",
		"5",
		"--from",
		"2026-11-01T00:00:00Z",
		"--to",
		"2026-11-02T00:00:00Z",
		"--as",
		"csv",
	}
	assert.Equal(t, demo.run(of...).stdout, demo.run(append(of, "--token", token)...).stdout)
	wrong := demo.run("hosts", "--show", "cpu=all")
	assert.Equal(t, 2, wrong.code)
	assert.Contains(
		t,
		wrong.stderr,
		"--show: cpu: \"all\" is not to be had: choose cores or percent or host or limit",
	)

	// Whoever opens the console itself comes to the page of their choice; a page that was asked for stays.
	status, _, _ := call(
		t,
		http.MethodPut,
		demo.address+"/api/v1/me/choices",
		token,
		"application/json",
		strings.NewReader(
			`{"bytes":"","network":"","cpu":"","decimals":null,"zone":"","clock":"","theme":"","density":"",`+
				`"lines":"","pace":0,"first":"/disks?span=24h","colours":{"Cellar Intake":"#8a5cc8"}}`,
		),
	)
	require.Equal(t, 200, status)
	require.NoError(t, b.Go(demo.address))
	require.NoError(t, b.WaitFor("location.pathname === '/disks' && location.search === '?span=24h'"))
	require.NoError(t, b.Go(demo.address+"/tenants/Cellar Intake"))
	require.NoError(t, b.WaitFor("getComputedStyle(document.querySelector('h1 .sw')).backgroundColor === "+
		"'rgb(138, 92, 200)'"))
	require.NoError(t, b.Go(demo.address+"/hosts"))
	require.NoError(t, b.WaitText("cellar-1"))
	assert.Equal(t, "/hosts", address(t, b))
	status, _, _ = call(t, http.MethodPut, demo.address+"/api/v1/me/choices", token, "application/json",
		strings.NewReader(`{"bytes":"ternary"}`))
	assert.Equal(t, http.StatusUnprocessableEntity, status)
	status, _, body := call(t, http.MethodPut, demo.address+"/api/v1/me/choices", token, "application/json",
		strings.NewReader(`{"bytes":"","network":"","cpu":"","decimals":null,"zone":"","clock":"","theme":"",`+
			`"density":"","lines":"","pace":0,"first":"","colours":{"Cellar Intake":"#c8571c"}}`))
	assert.Equal(t, http.StatusUnprocessableEntity, status)
	assert.Contains(t, string(body), "most eyes cannot tell its colour from that of Frost Watch")
}
