package crowd_test

import (
	"maps"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"vinescale/core/leaf"
	"vinescale/core/question"
	"vinescale/internal/crowd"
)

// leavesOfAWeek fetches what holds the answer to a series by the hour: some sections of a host, or of all.
const leavesOfAWeek = `SELECT body FROM hour_leaves WHERE start >= $1 AND start < $2 AND section = ANY($3)
	AND ($4 = '' OR host_id = (SELECT id FROM hosts WHERE name = $4))`

// floors is how long it takes to fetch what holds the answers, by hand-written SQL.
type floors struct {
	url   string
	from  time.Time
	known map[string]time.Duration
}

// of is how long it takes for a series.
func (f *floors) of(b *testing.B, x *series) time.Duration {
	host, sections := x.query.Get("host"), sectionsOf(x.query.Get("of"))
	if strings.HasPrefix(x.path, "/hosts/") {
		host = strings.Split(x.path, "/")[2]
	}
	key := strings.Join(append(sections, host), " ")
	if f.known[key] > 0 {
		return f.known[key]
	}
	conn, err := pgx.Connect(ctx, f.url)
	require.NoError(b, err)
	defer conn.Close(ctx)
	const times = 5
	begin := time.Now()
	for i := range times {
		from := f.from.Add(time.Duration(i) * 24 * time.Hour)
		rows, err := conn.Query(ctx, leavesOfAWeek, from, from.AddDate(0, 0, 7), sections, host)
		require.NoError(b, err)
		for rows.Next() {
			var body []byte
			require.NoError(b, rows.Scan(&body))
		}
		require.NoError(b, rows.Err())
	}
	f.known[key] = time.Since(begin) / times
	return f.known[key]
}

// sectionsOf are those that hold the answer to a series: of a part's figure its tables, of any other what all workloads
// of all hosts used.
func sectionsOf(measure string) []string {
	if f := leaf.PartFigureNamed(measure); f != nil {
		return leaf.SectionsOf(append(slices.Collect(maps.Keys(f.Columns())), leaf.Intervals)...)
	}
	return []string{"host", "who", "uses"}
}

// BenchmarkSeries asks how it went over a week of twelve hosts of 20 workloads, 128 CPUs, nine drives and eight GPUs:
// another week each time, so that nothing of it is remembered. The floor is to fetch the rows that hold the answer, by
// hand-written SQL.
func BenchmarkSeries(b *testing.B) {
	by := floors{known: map[string]time.Duration{}}
	program, data, span, _ := book(b, 21, func(s *service, f *crowd.Fleet) {
		s.furnish(b)
		f.EveryPart = true
	}, func(url string, span question.Span) {
		conn, err := pgx.Connect(ctx, url)
		require.NoError(b, err)
		defer conn.Close(ctx)
		_, err = conn.Exec(ctx, "ANALYZE")
		require.NoError(b, err)
		by.url, by.from = url, span.From
		for i := range asked {
			by.of(b, &asked[i])
		}
	})
	s := start(b, program, data)
	to := s.client(b)
	shift := 0
	for _, x := range asked {
		b.Run(x.name, func(b *testing.B) {
			var taken time.Duration
			n := 0
			q := maps.Clone(x.query)
			for b.Loop() {
				from := span.From.Add(time.Duration(shift%300) * time.Hour)
				shift++
				q.Set("from", from.Format(time.RFC3339))
				q.Set("to", from.AddDate(0, 0, 7).Format(time.RFC3339))
				begin := time.Now()
				require.NoError(b, to.Get(ctx, "/api/v1"+x.path, q, nil))
				taken += time.Since(begin)
				n++
			}
			b.ReportMetric(taken.Seconds()*1000/float64(n), "ms")
			b.ReportMetric(float64(taken)/float64(n)/float64(by.of(b, &x)), "x-floor")
			b.ReportMetric(0, "ns/op")
		})
	}
}

// series is one that is asked for.
type series struct {
	name, path string
	query      url.Values
}

var asked = []series{
	{"cpu-by-tenant", "/series", url.Values{"of": {"cpu"}, "by": {"tenant"}}},
	{"cpu-by-workload", "/series", url.Values{"of": {"cpu"}, "by": {"workload"}}},
	{"memory-by-host", "/series", url.Values{"of": {"memory"}, "by": {"host"}}},
	{"disk-by-user-of-a-host", "/series", url.Values{"of": {"disk"}, "by": {"user"}, "host": {"press-1"}}},
	{"cpu-by-cpu-of-a-host", "/series", url.Values{"of": {"cpu"}, "by": {"cpu"}, "host": {"press-1"}}},
	{"waiting-by-workload", "/series", url.Values{"of": {"cpu_wait_us"}, "by": {"workload"}}},
	{"placement-of-a-host", "/hosts/press-1/placement", url.Values{"by": {"workload"}}},
	{"busy-of-drives", "/series", url.Values{"of": {"drive_busy_percent"}}},
	{"received-by-interfaces", "/series", url.Values{"of": {"interface_received_bytes"}}},
	{"busy-of-GPUs", "/series", url.Values{"of": {"gpu_busy_percent"}}},
	{"busy-of-CPUs", "/series", url.Values{"of": {"cpu_busy_percent"}}},
	{"busy-of-CPUs-of-a-host", "/series", url.Values{"of": {"cpu_busy_percent"}, "host": {"press-1"}}},
	{"temperatures", "/series", url.Values{"of": {"sensor_celsius"}}},
}
