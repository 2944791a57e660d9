package e2e

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/internal/wire"
)

type problem struct {
	Type, Title, Detail string
	Status              int
}

func TestAPI_ProblemsAreTyped(t *testing.T) {
	credential := strings.TrimSpace(demo.run("hosts", "enrol", "spare-1").stdout)
	require.True(t, strings.HasPrefix(credential, "vs_"))
	batch := func(host string, version uint32) []byte {
		b, err := wire.Encode(&wire.Batch{Version: version, Host: host, Intervals: []*wire.Interval{{
			Boot: "b", Sequence: 1, FromUnixMicros: time.Now().Add(-time.Minute).UnixMicro(),
			ToUnixMicros: time.Now().UnixMicro(), ElapsedMillis: 60_000,
			Ledgers: []*wire.Ledger{{Resource: "cpu"}}, Usages: []*wire.Usage{{Resource: "cpu"}},
		}}})
		require.NoError(t, err)
		return b
	}
	const proto = wire.TypeProtobuf
	newer := []byte{0x08, wire.Version + 1} // the field version alone
	for name, c := range map[string]struct {
		method, path, token, media string
		body                       []byte
		status                     int
		kind, detail               string
	}{
		"no token":        {"GET", "/hosts", "", "", nil, 401, "no-token", "Authorization: Bearer"},
		"wrong token":     {"GET", "/hosts", "vs_wrong", "", nil, 401, "no-token", "not known"},
		"collector reads": {"GET", "/hosts", credential, "", nil, 403, "denied", "role collector"},
		"person sends":    {"POST", "/intervals", demo.token, proto, []byte{}, 403, "denied", "role administrator"},
		"unknown host":    {"GET", "/ledger?host=vineyard", demo.token, "", nil, 404, "not-found", "vineyard"},
		"bad span":        {"GET", "/ledger?span=soon", demo.token, "", nil, 422, "invalid", "90m"},
		"span runs back": {"GET", "/balance?from=2026-02-01T00:00:00Z&to=2026-01-01T00:00:00Z", demo.token, "",
			nil, 422, "invalid", "before it begins"},
		"rule does not parse": {"POST", "/rules", demo.token, "application/json",
			[]byte(`{"tenant":"Frost Watch","expression":"kind =="}`), 422, "invalid", "does not compile"},
		"tenant is there": {"POST", "/tenants", demo.token, "application/json", []byte(`{"name":"Frost Watch"}`),
			409, "conflict", "already"},
		"quota below zero": {"PUT", "/quotas/Frost%20Watch/cpu", demo.token, "application/json",
			[]byte(`{"ceiling":-1}`), 422, "invalid", "zero or more"},
		"batch is malformed": {"POST", "/intervals", credential, proto, []byte("no batch"), 422, "invalid",
			"not a batch"},
		"batch of another": {"POST", "/intervals", credential, proto, raw(t, batch("cellar-1", wire.Version)), 403,
			"denied",
			`"cellar-1"`},
		"batch is newer":  {"POST", "/intervals", credential, proto, newer, 501, "not-yet", "keep it"},
		"no such address": {"GET", "/harvest", demo.token, "", nil, 404, "not-found", "openapi.json"},
	} {
		status, header, answer := call(t, c.method, demo.address+"/api/v1"+c.path, c.token, c.media,
			bytes.NewReader(c.body))
		var p problem
		require.NoError(t, json.Unmarshal(answer, &p), "%s: %s", name, answer)
		assert.Equal(t, c.status, status, "%s: %s", name, answer)
		assert.Equal(t, "urn:vinescale:problem:"+c.kind, p.Type, name)
		assert.Contains(t, p.Detail, c.detail, name)
		assert.Equal(t, "application/problem+json", header.Get("Content-Type"), name)
	}
	status, _, _ := call(t, "POST", demo.address+"/api/v1/intervals", credential, proto,
		io.LimitReader(zeros{}, 17<<20))
	assert.Equal(t, http.StatusRequestEntityTooLarge, status)
	status, _, answer := call(t, "GET", demo.address+"/api/v1/ledger?of=gpus", demo.token, "", nil)
	assert.Equal(t, 422, status)
	assert.Contains(t, string(answer), "query.of")
}

// raw undoes zstd: these tests send no Content-Encoding.
func raw(t *testing.T, encoded []byte) []byte {
	b, err := wire.Decode(encoded, wire.TypeProtobuf, "zstd")
	require.NoError(t, err)
	plain, err := wire.Plain(b)
	require.NoError(t, err)
	return plain
}

type zeros struct{}

func (zeros) Read(b []byte) (int, error) { clear(b); return len(b), nil }

func TestAPI_AnyoneCanWriteACollectorInJSONAndItCountsOnce(t *testing.T) {
	credential := strings.TrimSpace(demo.run("hosts", "enrol", "spare-2").stdout)
	from := time.Now().Add(-5 * time.Minute).Truncate(time.Minute)
	line := func(n int) string { return `{"units":"` + strings.Repeat("1", n) + `"}` }
	ledger := `{"capacity":` + line(8) + `,"used":` + line(7) + `,"idle":` + line(6) +
		`,"kernel":{},"steal":{"unavailable":"none"}}`
	usage := `{"units":["1000000"],"peak":["1"],"source":[3]}`
	body := `{"version":1,"host":"spare-2","intervals":[{"boot":"b","sequence":"5",
			"fromUnixMicros":"` + micros(from) + `","toUnixMicros":"` + micros(from.Add(time.Minute)) + `",
		"elapsedMillis":"60000","ticks":1,"cpus":2,"ledgers":[` + strings.Join([]string{ledger, ledger, ledger,
		ledger}, ",") + `],
		"workloads":{"key":["job:1"],"kind":["job"],"name":["job 1"],"owner":["m.abt"],"uid":[2001],"path":[""],
		"allowed":["0-1"],"labels":[{}],"threads":[1],"processes":[1]},
		"usages":[` + strings.Join([]string{usage, usage, usage, usage}, ",") + `]}]}`
	for i, want := range []string{`"intervals_counted":1,"intervals_known":0`,
		`"intervals_counted":0,"intervals_known":1`} {
		status, _, answer := call(t, "POST", demo.address+"/api/v1/intervals", credential, "application/json",
			strings.NewReader(body))
		require.Equal(t, 200, status, "%d: %s", i, answer)
		assert.Contains(t, string(answer), want)
	}
	l := runJSON[map[string]any](t, demo, "share", "--host", "spare-2", "--by", "workload")
	share := l["shares"].([]any)[0].(map[string]any)
	assert.Equal(t, "Frost Watch", share["tenant"], "the rules apply to it as to any")
	assert.Equal(t, "reported", share["source"])
	assert.Equal(t, 1.0, share["amount"])

	// It has told one minute of five: every answer says so, listings by a header.
	for _, listing := range []string{"workloads", "threads", "programs", "pins"} {
		_, header, _ := call(t, "GET", demo.address+"/api/v1/"+listing+"?host=spare-2", demo.token, "", nil)
		assert.Contains(t, header.Get("X-Missed"), `"parts":[{"host":"spare-2"`, listing)
		table := demo.run(listing, "--host", "spare-2")
		assert.Contains(t, table.stdout, "\nNothing was recorded of spare-2 from ", listing)
		csv := demo.run(listing, "--host", "spare-2", "--as", "csv")
		assert.NotContains(t, csv.stdout, "Nothing was recorded", listing)
		assert.Contains(t, csv.stderr, "Nothing was recorded of spare-2 from ", listing)
	}
	csv := demo.run("disks", "--host", "spare-2", "--as", "csv")
	assert.Contains(t, csv.stderr, "Nothing was recorded of spare-2 from ")
	_, header, _ := call(t, "GET", demo.address+"/api/v1/workloads?host=cellar-1", demo.token, "", nil)
	assert.Empty(t, header.Get("X-Missed"))
}

func micros(t time.Time) string { b, _ := json.Marshal(t.UnixMicro()); return string(b) }

func TestAPI_HealthAndReadiness(t *testing.T) {
	for path, want := range map[string]string{"/healthz": "alive\n", "/readyz": "ready\n"} {
		status, _, answer := call(t, "GET", demo.address+path, "", "", nil)
		assert.Equal(t, 200, status)
		assert.Equal(t, want, string(answer))
	}
	status, _, answer := call(t, "GET", demo.address+"/api/v1/openapi.json", "", "", nil)
	assert.Equal(t, 200, status)
	assert.Contains(t, string(answer), `"openapi":"3.1.0"`)
}

func TestAPI_ACookieAloneChangesNothing(t *testing.T) {
	req, err := http.NewRequest("DELETE", demo.address+"/api/v1/tenants/Frost%20Watch", nil)
	require.NoError(t, err)
	req.AddCookie(&http.Cookie{Name: "vinescale_token", Value: demo.token})
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, 403, resp.StatusCode, "a form on another site could send it")
}
