package crowd_test

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vinescale/core/question"
	"vinescale/internal/browser"
	"vinescale/internal/client"
	"vinescale/internal/crowd"
	"vinescale/internal/postgres"
	"vinescale/internal/stage"
)

var ctx = context.Background()

// service is a running vinescale.
type service struct {
	address, token string
	cmd            *exec.Cmd
	mu             sync.Mutex
	output         bytes.Buffer
}

func (s *service) Write(b []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.output.Write(b)
}

func (s *service) text() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.output.String()
}

var serving = regexp.MustCompile(`msg=serving address=(http://\S+)`)

// build builds the program into a directory that the database's user can enter.
func build(b *testing.B) (program, dir string) {
	dir, err := os.MkdirTemp("", "vinescale-crowd-")
	require.NoError(b, err)
	b.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(b, os.Chmod(dir, 0o711))
	program = filepath.Join(dir, "vinescale")
	out, err := exec.Command("go", "build", "-o", program, "vinescale/cmd/vinescale").CombinedOutput()
	require.NoError(b, err, string(out))
	return program, dir
}

// start starts a service on a data directory.
func start(b *testing.B, program, data string) *service {
	s := &service{}
	s.cmd = exec.Command(program, "serve", "--listen", "127.0.0.1:0", "--data", data)
	s.cmd.Stdout, s.cmd.Stderr = s, s
	require.NoError(b, s.cmd.Start())
	b.Cleanup(s.stop)
	require.Eventually(b, func() bool { return serving.MatchString(s.text()) }, time.Minute, 10*time.Millisecond)
	s.address = serving.FindStringSubmatch(s.text())[1]
	token, err := os.ReadFile(filepath.Join(data, "administrator-token"))
	require.NoError(b, err)
	s.token = strings.TrimSpace(string(token))
	return s
}

func (s *service) stop() {
	s.cmd.Process.Signal(syscall.SIGINT)
	s.cmd.Wait()
}

// serve starts a service with the tenants and rules of the cooperative.
func serve(b *testing.B) *service {
	program, dir := build(b)
	s := start(b, program, filepath.Join(dir, "data"))
	s.furnish(b)
	return s
}

// furnish sets up the tenants and rules of the cooperative.
func (s *service) furnish(b *testing.B) {
	to := s.client(b)
	for _, t := range stage.Tenants {
		require.NoError(b, to.Send(ctx, http.MethodPost, "/api/v1/tenants", map[string]any{"name": t.Name}, nil))
		require.NoError(b, to.Send(ctx, http.MethodPost, "/api/v1/rules", map[string]any{"tenant": t.Name,
			"expression": t.Rule}, nil))
	}
}

func (s *service) client(b *testing.B) *client.Client {
	to, err := client.New(s.address, s.token)
	require.NoError(b, err)
	return to
}

// megabytes is the most memory that the service held at a time.
func (s *service) megabytes(b *testing.B) float64 {
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", s.cmd.Process.Pid))
	require.NoError(b, err)
	kib := 0
	_, err = fmt.Sscanf(string(status[bytes.Index(status, []byte("VmHWM:")):]), "VmHWM: %d", &kib)
	require.NoError(b, err)
	return float64(kib) / 1000
}

// rest waits until the service has bound and folded what it took in: until it does next to nothing for longer than it
// waits between two rounds of that.
func (s *service) rest(b *testing.B) {
	for quiet := 0; quiet < 25; quiet++ {
		before := s.cpuTime(b)
		time.Sleep(time.Second)
		if s.cpuTime(b)-before > 100*time.Millisecond {
			quiet = 0
		}
	}
}

// cpuTime is how long the service's own process ran, to a hundredth of a second.
func (s *service) cpuTime(b *testing.B) time.Duration {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", s.cmd.Process.Pid))
	require.NoError(b, err)
	n := 0
	for _, field := range strings.Fields(string(stat[bytes.LastIndexByte(stat, ')')+1:]))[11:13] {
		more, err := strconv.Atoi(field)
		require.NoError(b, err)
		n += more
	}
	return time.Duration(n) * 10 * time.Millisecond
}

// BenchmarkFleet takes in what the collectors of 1,000 hosts of 300 workloads send every minute. Its floor is the time
// of which they tell: what is slower than that never ends.
func BenchmarkFleet(b *testing.B) {
	s := serve(b)
	f, err := crowd.Enrol(ctx, s.address, s.token, 1000, 300)
	require.NoError(b, err)
	at := time.Now().Add(-2 * time.Hour).Truncate(time.Minute)
	send := func() time.Duration {
		batches, err := f.Batches(at, 1)
		require.NoError(b, err)
		at = at.Add(time.Minute)
		begin := time.Now()
		require.NoError(b, f.Send(ctx, batches))
		return time.Since(begin)
	}
	first := send() // makes the workloads known
	var taken, told time.Duration
	for b.Loop() {
		taken, told = taken+send(), told+time.Minute
	}
	b.ReportMetric(float64(told)/float64(taken), "x-real-time")
	b.ReportMetric(time.Minute.Seconds()/first.Seconds(), "x-real-time-of-new-workloads")
	b.ReportMetric(s.megabytes(b), "MB-of-the-service")
	b.ReportMetric(0, "ns/op")
}

// BenchmarkReaders lets fifty consoles ask for the balance of the last hour every second, beside the intake of twelve
// hosts of 300 workloads that send every second what they should every minute. The floor of either is itself without
// the other.
func BenchmarkReaders(b *testing.B) {
	const hosts, readers = 12, 50
	s := serve(b)
	f, err := crowd.Enrol(ctx, s.address, s.token, hosts, 300)
	require.NoError(b, err)
	at := time.Now().Add(-85 * time.Minute).Truncate(time.Minute) // so that all that is sent is of the last hour or so
	prepare := func(n int) (prepared [][][]byte) {
		for range n {
			batches, err := f.Batches(at, 1)
			require.NoError(b, err)
			prepared, at = append(prepared, batches), at.Add(time.Minute)
		}
		return prepared
	}
	for _, batches := range prepare(60) {
		require.NoError(b, f.Send(ctx, batches))
	}
	every := time.Second
	take := func(prepared [][][]byte) (took []time.Duration) {
		for _, batches := range prepared {
			begin := time.Now()
			list, err := f.Spread(ctx, batches, every)
			require.NoError(b, err)
			took = append(took, list...)
			time.Sleep(every - time.Since(begin))
		}
		return took
	}
	ask := func(n int, stop <-chan struct{}) []time.Duration {
		var mu sync.Mutex
		var took []time.Duration
		var group sync.WaitGroup
		for i := range n {
			group.Go(func() {
				to := s.client(b)
				time.Sleep(every * time.Duration(i) / time.Duration(n))
				for {
					begin := time.Now()
					if err := to.Get(ctx, "/api/v1/balance", nil, nil); err != nil {
						b.Error(err)
						return
					}
					mu.Lock()
					took = append(took, time.Since(begin))
					mu.Unlock()
					select {
					case <-stop:
						return
					case <-time.After(every - time.Since(begin)):
					}
				}
			})
		}
		group.Wait()
		return took
	}
	var intakeAlone, intake, balanceAlone, balance []time.Duration
	for range b.N { // once: one round takes half a minute
		intakeAlone = append(intakeAlone, take(prepare(10))...)
		prepared := prepare(20)
		stop := make(chan struct{})
		time.AfterFunc(5*time.Second, func() { close(stop) })
		balanceAlone = append(balanceAlone, ask(readers, stop)...)
		stop = make(chan struct{})
		done := make(chan []time.Duration)
		go func() { done <- ask(readers, stop) }()
		intake = append(intake, take(prepared)...)
		close(stop)
		balance = append(balance, <-done...)
	}
	millis := func(list []time.Duration, part float64) float64 {
		slices.Sort(list)
		return list[int(part*float64(len(list)-1))].Seconds() * 1000
	}
	b.ReportMetric(millis(intake, 0.99), "intake-p99-ms")
	b.ReportMetric(millis(intake, 0.99)/millis(intakeAlone, 0.99), "intake-x-floor")
	b.ReportMetric(millis(balance, 0.5), "balance-p50-ms")
	b.ReportMetric(millis(balance, 0.5)/millis(balanceAlone, 0.5), "balance-x-floor")
	b.ReportMetric(0, "ns/op")
}

// BenchmarkConsole opens each page of the console over a book of 1,000 hosts with 20 workloads each and 75 minutes of
// figures: until the last answer is there, and while it is scrolled. The floor is the sign-in page, which asks nothing.
func BenchmarkConsole(b *testing.B) {
	s := serve(b)
	f, err := crowd.Enrol(ctx, s.address, s.token, 1000, 20)
	require.NoError(b, err)
	const minutes = 75
	from := time.Now().Add(-minutes * time.Minute).Truncate(time.Minute)
	for n := 0; n < minutes; n += 15 {
		batches, err := f.Batches(from.Add(time.Duration(n)*time.Minute), 15)
		require.NoError(b, err)
		require.NoError(b, f.Send(ctx, batches))
	}
	s.rest(b)
	tab, done, err := browser.Open(ctx)
	require.NoError(b, err)
	defer done()
	eval := func(expression string) float64 {
		v, err := browser.Eval[float64](tab, expression)
		require.NoError(b, err)
		return v
	}
	require.NoError(b, tab.Before(countingScript))
	open := func(path string) float64 {
		require.NoError(b, tab.Go("about:blank"))
		require.NoError(b, tab.Go(s.address+path))
		require.NoError(b, tab.WaitFor(answeredScript), path)
		return eval(readyScript)
	}
	floor := open("/")
	require.NoError(b, tab.SignIn(s.address, s.token))
	for name, path := range map[string]string{"balance": "/", "hosts": "/hosts", "host": "/hosts/cellar-1",
		"tenant": "/tenants/Cellar%20Intake", "workload": "/workloads/4", "user": "/users/svc-cellar",
		"disks":   "/disks",
		"network": "/network", "events": "/events", "rules": "/rules"} {
		b.Run(name, func(b *testing.B) {
			var ready, frame, kilobytes float64
			n := 0.0
			for b.Loop() {
				ready += open(path)
				frame = max(frame, eval(frameScript))
				kilobytes = max(kilobytes, eval(largestScript))
				n++
			}
			b.ReportMetric(ready/n, "ms-until-ready")
			b.ReportMetric(ready/n/floor, "x-floor")
			b.ReportMetric(frame, "ms-a-frame-at-worst")
			b.ReportMetric(kilobytes, "kB-largest-answer")
			b.ReportMetric(0, "ns/op")
		})
	}
	for name, click := range map[string]struct{ path, what string }{
		"to-hosts":         {"/", `document.querySelector('nav a[href="/hosts"]')`},
		"to-the-balance":   {"/hosts", `document.querySelector('nav a[href="/"]')`},
		"to-a-host":        {"/hosts", `document.querySelector('main a[href^="/hosts/"]')`},
		"to-a-tenant":      {"/", `document.querySelector('main a[href^="/tenants/"]')`},
		"to-workloads":     {"/hosts", `document.querySelector('nav a[href="/workloads"]')`},
		"to-a-workload":    {"/workloads", `document.querySelector('main a[href^="/workloads/"]')`},
		"to-a-user":        {"/workloads", `document.querySelector('main a[href^="/users/"]')`},
		"to-disks":         {"/workloads", `document.querySelector('nav a[href="/disks"]')`},
		"to-the-network":   {"/disks", `document.querySelector('nav a[href="/network"]')`},
		"to-events":        {"/disks", `document.querySelector('nav a[href="/events"]')`},
		"to-the-plan":      {"/hosts", `document.querySelector('nav a[href="/plan"]')`},
		"to-statements":    {"/hosts", `document.querySelector('nav a[href="/statements"]')`},
		"hosts-as-a-map":   {"/hosts", `document.querySelector('main button[aria-pressed]')`},
		"workloads-sorted": {"/workloads", `document.querySelector('main thead button')`},
		"disks-sorted":     {"/disks", `document.querySelector('main thead button')`},
		"events-sorted":    {"/events", `document.querySelector('main thead button')`},
	} {
		leaves := strings.HasPrefix(name, "to-")
		b.Run("click/"+name, func(b *testing.B) {
			var worst, paint, drawn, n float64
			for b.Loop() {
				open(click.path)
				require.NoError(b, tab.WaitFor(click.what), name)
				ms, err := browser.Eval[[]float64](tab, fmt.Sprintf("(%s)(%s, %v)", clickScript, click.what, leaves))
				require.NoError(b, err, name)
				worst, paint, drawn, n = max(worst, ms[0]), paint+ms[0], drawn+ms[1], n+1
			}
			b.ReportMetric(paint/n, "ms-until-next-paint")
			b.ReportMetric(worst, "ms-at-worst")
			b.ReportMetric(drawn/n, "ms-until-drawn")
			b.ReportMetric(0, "ns/op")
		})
	}
}

// clickScript clicks on something, and tells in milliseconds how long it took until the next frame was on the screen,
// and until one was that shows what was clicked for: where the click leaves the page, another with a title of its own.
// A task behind a frame runs when that has been drawn.
const clickScript = `(what, leaves) => new Promise(done => {
	const title = () => document.querySelector('main h1')
	const before = title()
	const began = performance.now()
	let painted
	what.click()
	const look = () => requestAnimationFrame(() => {
		const behind = new MessageChannel()
		behind.port1.onmessage = () => {
			const now = performance.now() - began
			painted ??= now
			if (leaves && (!title() || title() === before)) look()
			else done([painted, now])
		}
		behind.port2.postMessage(0)
	})
	look()
})`

// aYear makes a book of a year of twelve hosts of 20 workloads, every hour of which is kept. It returns the program,
// its data, the year, and how long the service took to start on an empty book.
func aYear(b *testing.B) (program, data string, year question.Span, floor time.Duration) {
	return book(b, 365, func(*service, *crowd.Fleet) {}, func(string, question.Span) {})
}

// book makes a book of so many days: prepare may set things up before anything is sent, and finish adds to the database
// what repeating an hour does not.
func book(b *testing.B, days int, prepare func(*service, *crowd.Fleet),
	finish func(databaseURL string, span question.Span)) (program, data string, year question.Span,
	floor time.Duration) {
	program, dir := build(b)
	data = filepath.Join(dir, "data")
	start(b, program, data).stop() // makes the book
	begin := time.Now()
	s := start(b, program, data)
	floor = time.Since(begin)
	f, err := crowd.Enrol(ctx, s.address, s.token, 12, 20)
	require.NoError(b, err)
	prepare(s, f)
	hour := time.Now().UTC().Add(-3 * time.Hour).Truncate(time.Hour)
	batches, err := f.Batches(hour, 60)
	require.NoError(b, err)
	require.NoError(b, f.Send(ctx, batches))
	s.rest(b)
	s.stop()
	cluster, err := postgres.Start(ctx, filepath.Join(data, "postgres"))
	require.NoError(b, err)
	today := hour.Truncate(24 * time.Hour)
	year = question.Span{From: today.AddDate(0, 0, -days), To: today}
	require.NoError(b, crowd.Repeat(ctx, cluster.URL, hour, year))
	finish(cluster.URL, year)
	require.NoError(b, cluster.Stop())
	return program, data, year, floor
}

// BenchmarkQuestions asks a service what the documents show, over an hour, a week and a month of such a year, each
// twice as anyone might. The floor is the list of tenants, which asks nothing of the book.
func BenchmarkQuestions(b *testing.B) {
	program, data, year, _ := aYear(b)
	s := start(b, program, data)
	to := s.client(b)
	ask := func(path string, query url.Values) time.Duration {
		begin := time.Now()
		require.NoError(b, to.Get(ctx, path, query, nil), path)
		return time.Since(begin)
	}
	ask("/api/v1/tenants", nil)
	floor := ask("/api/v1/tenants", nil)
	for _, path := range []string{"/balance", "/balances", "/timeline", "/ledger?of=cpu&by=tenant",
		"/ledger?of=disk_reads&by=workload", "/ledger?of=cpu&by=program", "/ledger?of=memory&by=user",
		"/ledger?of=cpu&by=workload&where=kind+%3D%3D+'job'", "/workloads?first=20", "/threads", "/programs?first=20",
		"/pins", "/disks", "/interfaces", "/hosts/cellar-1/cpus", "/hosts/cellar-1/memory", "/workloads/4",
		"/about/host/cellar-1", "/about/user/svc-cellar", "/about/tenant/unassigned", "/rules/suggestions"} {
		for name, length := range map[string]time.Duration{"hour": time.Hour, "week": 7 * 24 * time.Hour,
			"month": 30 * 24 * time.Hour} {
			b.Run(strings.Trim(path, "/")+"/"+name, func(b *testing.B) {
				path, rest, _ := strings.Cut(path, "?")
				query, err := url.ParseQuery(rest)
				require.NoError(b, err)
				var first, taken time.Duration
				n := 0
				for b.Loop() {
					end := year.To.Add(-time.Duration(24*(n+1)) * time.Hour)
					query.Set("from", end.Add(-length).Format(time.RFC3339))
					query.Set("to", end.Format(time.RFC3339))
					first += ask("/api/v1"+path, query)
					taken += ask("/api/v1"+path, query)
					n++
				}
				b.ReportMetric(first.Seconds()*1000/float64(n), "ms")
				b.ReportMetric(taken.Seconds()*1000/float64(n), "ms-again")
				b.ReportMetric(float64(first)/float64(n)/float64(floor), "x-floor")
				b.ReportMetric(0, "ns/op")
			})
		}
	}
}

// BenchmarkStart starts a service on a book of a year, and asks for the balance of a day. The floor is its start on an
// empty book.
func BenchmarkStart(b *testing.B) {
	program, data, year, floor := aYear(b)
	var ready, balance time.Duration
	n := 0
	for b.Loop() {
		begin := time.Now()
		s := start(b, program, data)
		ready += time.Since(begin)
		query := url.Values{"from": {year.To.AddDate(0, 0, -1).Format(time.RFC3339)},
			"to": {year.To.Format(time.RFC3339)}}
		var answer struct{ Hosts int }
		begin = time.Now()
		require.NoError(b, s.client(b).Get(ctx, "/api/v1/balance", query, &answer))
		balance += time.Since(begin)
		require.Equal(b, 12, answer.Hosts)
		s.stop()
		n++
	}
	b.ReportMetric(ready.Seconds()*1000/float64(n), "ms-until-ready")
	b.ReportMetric(float64(ready)/float64(n)/float64(floor), "x-floor")
	b.ReportMetric(balance.Seconds()*1000/float64(n), "ms-first-balance")
	b.ReportMetric(0, "ns/op")
}

// What is asked of a page: whether it waited for no answer for a second, and when its last one came. Its first answers
// count: it asks again when a minute has passed.
const (
	countingScript = `{
		const ask = window.fetch
		window.unanswered = 0
		window.fetch = (...q) => {
			window.unanswered++
			return ask(...q).finally(() => { window.answered = performance.now(); window.unanswered-- })
		}
	}`
	answeredScript = `window.unanswered === 0 && performance.now() > window.answered + 1000`
	readyScript    = `Math.max(performance.getEntriesByType('navigation')[0].loadEventEnd,
		...Object.values(Object.groupBy(performance.getEntriesByType('resource')
			.filter(r => r.name.includes('/api/') && !r.name.includes('/events')),
			r => new URL(r.name).pathname)).map(list => list[0].responseEnd))`
	largestScript = `Math.max(0, ...performance.getEntriesByType('resource').filter(r => r.name.includes('/api/'))
		.map(r => r.decodedBodySize)) / 1000`
	frameScript = `(async () => {
		const height = document.documentElement.scrollHeight
		let worst = 0, last = performance.now()
		for (let y = 0, n = 0; y < height && n < 100; y += Math.max(200, height / 60), n++) {
			scrollTo(0, y)
			await new Promise(requestAnimationFrame)
			const now = performance.now()
			worst = Math.max(worst, now - last)
			last = now
		}
		return worst
	})()`
)
