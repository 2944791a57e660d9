package e2e

import (
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/internal/api"
)

// TestServe_TheSitesTimeZoneIsForWhoeverNamesNone of those who look, of allowances, and of hours.
func TestServe_TheSitesTimeZoneIsForWhoeverNamesNone(t *testing.T) {
	const far = "Asia/Kathmandu" // five hours and three quarters ahead: its clock never shows what that of UTC does
	data := dataDir(t)
	bad, _, err := startProgram(program, serveReady, nil, "serve", "--data", data, "--zone", "Terra/Nova")
	require.Error(t, err)
	if bad != nil {
		bad.interrupt()
	}
	r, m, err := startProgram(program, serveReady, nil, "serve", "--listen", "127.0.0.1:0", "--data", data, "--zone",
		far)
	require.NoError(t, err)
	t.Cleanup(r.interrupt)
	r.address = m[1]
	token, err := os.ReadFile(filepath.Join(data, "administrator-token"))
	require.NoError(t, err)
	r.token = strings.TrimSpace(string(token))
	zone, err := time.LoadLocation(far)
	require.NoError(t, err)

	require.Zero(t, r.run("tenant", "add", "Frost Watch").code)
	require.Zero(t, r.run("quota", "allow", "Frost Watch", "cpu", "100", "--per", "day").code)
	require.Zero(t, r.run("quota", "allow", "Frost Watch", "memory", "100GiB", "--per", "day", "--zone", "UTC").code)
	for _, q := range runJSON[[]api.Quota](t, r, "quota", "list") {
		assert.Equal(t, map[string]string{"cpu": far, "memory": "UTC"}[q.Resource], q.Zone)
	}
	shows := func(zone *time.Location, args ...string) bool {
		got := r.run(args...)
		require.Zero(t, got.code, got.stderr)
		now := time.Now().In(zone)
		return strings.Contains(got.stdout, now.Format("15:04")) ||
			strings.Contains(got.stdout, now.Add(-time.Minute).Format("15:04"))
	}
	assert.True(t, shows(zone, "events"), "when the quotas were set")
	assert.True(t, shows(time.UTC, "events", "--show", "zone=UTC"))

	status, _, body := call(t, http.MethodGet, r.address+"/api/v1/me/choices", r.token, "", nil)
	assert.Equal(t, http.StatusOK, status)
	assert.Contains(t, string(body), `"site_zone":"`+far+`"`)
	status, _, body = call(t, http.MethodPut, r.address+"/api/v1/tariff", r.token, "application/json",
		strings.NewReader(`{"window":"month","reason":"by our own midnights"}`))
	assert.Equal(t, http.StatusOK, status, string(body))
	assert.Contains(t, r.run("tariff", "--as", "json").stdout, far)
}
