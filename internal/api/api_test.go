package api_test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/internal/api"
	"vinescale/internal/hub"
	"vinescale/internal/store"
	"vinescale/internal/testdb"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }

// service is a service with an administrator's token.
type service struct {
	*httptest.Server
	token    string
	database string
	t        *testing.T
}

func newService(t *testing.T) *service {
	database := testdb.New(t)
	s, err := store.Open(context.Background(), database)
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	require.NoError(t, s.PutToken(context.Background(), "admin", hub.Administrator, "secret"))
	server := httptest.NewServer(api.New(hub.New(s, hub.Options{}), "test"))
	t.Cleanup(server.Close)
	return &service{server, "secret", database, t}
}

// ask sends a request and returns the status and the problem's text.
func (s *service) ask(method, path, body string) (status int, detail string) {
	r, err := http.NewRequest(method, s.URL+path, strings.NewReader(body))
	require.NoError(s.t, err)
	r.Header.Set("Authorization", "Bearer "+s.token)
	r.Header.Set("Content-Type", "application/json")
	answer, err := http.DefaultClient.Do(r)
	require.NoError(s.t, err)
	defer answer.Body.Close()
	raw, err := io.ReadAll(answer.Body)
	require.NoError(s.t, err)
	var p struct {
		Detail string
		Errors []struct{ Message string }
	}
	_ = json.Unmarshal(raw, &p) // what is no problem has no text
	for _, e := range p.Errors {
		p.Detail += "; " + e.Message
	}
	return answer.StatusCode, p.Detail
}

// TestAPI_TextsThatCannotBeStoredAreTheCallersToMend: none is answered 500, at which a program would try for ever.
func TestAPI_TextsThatCannotBeStoredAreTheCallersToMend(t *testing.T) {
	s := newService(t)
	status, _ := s.ask("POST", "/api/v1/tenants", `{"name":"frost"}`)
	require.Equal(t, http.StatusCreated, status)
	long := strings.Repeat("m", 65<<10)
	for _, c := range []struct{ method, path, body, want string }{
		{"POST", "/api/v1/tenants", `{"name":"fro\u0000st"}`, "NUL"},
		{"POST", "/api/v1/tenants", "{\"name\":\"" + long + "\"}", "longer than"},
		{"POST", "/api/v1/rules", `{"tenant":"frost","expression":"name == 'a\u0000b'"}`, "NUL"},
		{"POST", "/api/v1/hosts", `{"name":"a\u0000b"}`, "NUL"},
		{"DELETE", "/api/v1/tenants/a%00b", "", "name: holds a NUL"},
		{"DELETE", "/api/v1/tenants/a%ffb", "", "name: is not UTF-8"},
		{"GET", "/api/v1/ledger?host=a%00b", "", "host: holds a NUL"},
		{"GET", "/api/v1/ledger?where=name+%3D%3D+%27%ff%27", "", "where: is not UTF-8"},
		{"GET", "/api/v1/ledger?tenant=%00", "", "tenant: holds a NUL"},
		{"GET", "/api/v1/find?q=%00", "", "NUL"},
		{"GET", "/api/v1/workloads?first=5&after=" + long, "", "after: is longer"},
		{"GET", "/api/v1/balance?from=9999-12-31T23:00:00Z&to=9999-12-31T23:59:30Z", "", "1970 to 2199"},
		{"GET", "/api/v1/balance?from=0001-01-01T00:00:01Z&to=0001-01-02T00:00:00Z", "", "1970 to 2199"},
		{"GET", "/api/v1/timeline?from=2199-12-31T23:00:00Z&to=2200-01-01T00:00:01Z", "", "1970 to 2199"},
	} {
		status, detail := s.ask(c.method, c.path, c.body)
		if status == http.StatusNotFound && strings.Contains(detail, "no such address") {
			t.Errorf("%s is no address", c.path)
		}
		assert.Contains(t, []int{400, 422}, status, "%s %s: %s", c.method, c.path, detail)
		assert.Contains(t, detail, c.want, "%s %.80s", c.method, c.path)
	}
	for _, path := range []string{"/api/v1/balance?from=2199-12-31T22:59:30Z&to=2200-01-01T00:00:00Z",
		"/api/v1/ledger?from=1970-01-01T00:00:00Z&to=1970-01-02T00:00:00Z"} {
		status, detail := s.ask("GET", path, "")
		assert.Equal(t, http.StatusOK, status, "%s: %s", path, detail)
	}
}

// TestAPI_WithoutACredentialNoBodyIsWaitedFor opens connections that announce a body and never send it.
func TestAPI_WithoutACredentialNoBodyIsWaitedFor(t *testing.T) {
	s := newService(t)
	var all sync.WaitGroup
	for i := range 200 {
		path := []string{"/api/v1/intervals", "/api/v1/notices", "/api/v1/tenants"}[i%3]
		all.Go(func() {
			c, err := net.Dial("tcp", s.Listener.Addr().String())
			if !assert.NoError(t, err) {
				return
			}
			defer c.Close()
			fmt.Fprintf(c, "POST %s HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer none\r\n"+
				"Content-Type: application/x-protobuf\r\nContent-Length: 1000\r\n\r\n", path)
			_ = c.SetReadDeadline(time.Now().Add(30 * time.Second))
			answer, err := http.ReadResponse(bufio.NewReader(c), nil)
			if assert.NoError(t, err, "it hangs") {
				assert.Equal(t, http.StatusUnauthorized, answer.StatusCode)
				answer.Body.Close()
			}
		})
	}
	all.Wait()
}

// TestAPI_QuestionsQueueApartFromReadiness holds up every question at a table's lock: the service is ready all the
// same.
func TestAPI_QuestionsQueueApartFromReadiness(t *testing.T) {
	s := newService(t)
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, s.database)
	require.NoError(t, err)
	defer conn.Close(ctx)
	tx, err := conn.Begin(ctx)
	require.NoError(t, err)
	_, err = tx.Exec(ctx, "LOCK TABLE tenants IN ACCESS EXCLUSIVE MODE")
	require.NoError(t, err)
	var asked sync.WaitGroup
	for range 60 {
		asked.Go(func() {
			status, detail := s.ask("GET", "/api/v1/balance", "")
			assert.Equal(t, http.StatusOK, status, detail)
		})
	}
	require.Eventually(t, func() bool {
		var waiting int
		require.NoError(t, conn.QueryRow(ctx, "SELECT count(*) FROM pg_locks WHERE NOT granted").Scan(&waiting))
		return waiting >= 8
	}, 3*time.Minute, 10*time.Millisecond)
	for range 10 {
		status, _ := s.ask("GET", "/readyz", "")
		assert.Equal(t, http.StatusOK, status)
	}
	require.NoError(t, tx.Rollback(ctx))
	asked.Wait()
}

// TestAPI_HostsArePagedByNameAndThoseThatAreSilentAreToldApart lists hosts a page at a time, in step with balances.
func TestAPI_HostsArePagedByNameAndThoseThatAreSilentAreToldApart(t *testing.T) {
	s := newService(t)
	for _, name := range []string{"press-2", "cellar-1", "terrace-1", "press-1", "office-1"} {
		status, detail := s.ask(http.MethodPost, "/api/v1/hosts", `{"name":"`+name+`"}`)
		require.Equal(t, http.StatusCreated, status, detail)
	}
	conn, err := pgx.Connect(context.Background(), s.database)
	require.NoError(t, err)
	defer conn.Close(context.Background())
	_, err = conn.Exec(context.Background(), `UPDATE hosts SET last_at = now() - CASE name WHEN 'cellar-1' THEN
		interval '1 minute' ELSE interval '4 minutes' END WHERE name IN ('cellar-1', 'press-2')`)
	require.NoError(t, err)
	page := func(path string) (names []string, inAll, next string) {
		r, err := http.NewRequest(http.MethodGet, s.URL+path, nil)
		require.NoError(t, err)
		r.Header.Set("Authorization", "Bearer "+s.token)
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		defer answer.Body.Close()
		var list []struct{ Name, Host, State string }
		require.NoError(t, json.NewDecoder(answer.Body).Decode(&list))
		for _, x := range list {
			names = append(names, x.Name+x.Host+" "+x.State)
		}
		return names, answer.Header.Get("X-In-All"), answer.Header.Get("X-Next-Page")
	}
	names, inAll, next := page("/api/v1/hosts?first=2")
	assert.Equal(t, []string{"cellar-1 reporting", "office-1 awaited"}, names)
	assert.Equal(t, []string{"5", "office-1"}, []string{inAll, next})
	names, _, next = page("/api/v1/hosts?first=2&after=office-1")
	assert.Equal(t, []string{"press-1 awaited", "press-2 silent"}, names)
	assert.Equal(t, "press-2", next)
	balances, _, balancesNext := page("/api/v1/balances?first=2&after=office-1")
	assert.Equal(t, []string{"press-1 ", "press-2 "}, balances, "the same hosts")
	assert.Equal(t, next, balancesNext)
	names, inAll, next = page("/api/v1/hosts?first=2&after=press-2")
	assert.Equal(t, []string{"terrace-1 awaited"}, names)
	assert.Equal(t, []string{"5", ""}, []string{inAll, next}, "the last page has none after it")
	names, inAll, next = page("/api/v1/hosts?unheard=true&first=3")
	assert.Equal(t, []string{"office-1 awaited", "press-1 awaited", "press-2 silent"}, names)
	assert.Equal(t, []string{"4", "press-2"}, []string{inAll, next})
}

// TestAPI_EveryQuestionOfManyHostsCanBeAskedOfOne: a host that is not known is told of, and not passed over.
func TestAPI_EveryQuestionOfManyHostsCanBeAskedOfOne(t *testing.T) {
	s := newService(t)
	for _, path := range []string{"/balance", "/timeline", "/ledger", "/disks", "/interfaces", "/pins", "/workloads",
		"/threads", "/programs"} {
		status, detail := s.ask(http.MethodGet, "/api/v1"+path+"?host=office-9", "")
		assert.Equal(t, http.StatusNotFound, status, path)
		assert.Contains(t, detail, "office-9", path)
		status, detail = s.ask(http.MethodGet, "/api/v1"+path+"?span=nonsense", "")
		assert.NotEqual(t, http.StatusOK, status, "%s: %s", path, detail)
	}
}

func TestAPI_FiguresOfPartsAreOfNoWorkload(t *testing.T) {
	s := newService(t)
	for query, want := range map[string]string{
		"of=drive_busy_percent&by=tenant":        "leave out by",
		"of=drive_busy_percent&tenant=frost":     "leave out tenant",
		"of=sensor_celsius&where=kind+%3D%3D+1":  "leave out where",
		"of=gpu_busy_percent&workload=7":         "leave out workload",
		"of=drive_busy_percent&step=7m":          "a step of",
		"of=cpu&part=sda":                        "has no parts",
		"of=drive_busyness":                      "of",
		"of=drive_busy_percent&pool=vats":        "vats",
		"of=cpu_busy_percent&host=office-9":      "office-9",
		"of=interface_errors&host=a&part=%ff%00": "part: ",
	} {
		status, detail := s.ask(http.MethodGet, "/api/v1/series?"+query, "")
		assert.Contains(t, []int{400, 404, 422}, status, query)
		assert.Contains(t, detail, want, query)
	}
	for _, query := range []string{"of=drive_busy_percent", "of=cpu_busy_percent&by=part", "of=sensor_rpm&workload=0"} {
		status, detail := s.ask(http.MethodGet, "/api/v1/series?"+query, "")
		assert.Equal(t, http.StatusOK, status, "%s: %s", query, detail)
	}
}
