package crowd_test

import (
	"fmt"
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
const leavesOfAWeek = `SELECT body FROM day_quires WHERE start > $1::timestamptz - interval '1 day' AND start < $2
	AND section = ANY($3) AND ($4 = '' OR host_id = (SELECT id FROM hosts WHERE name = $4))`

// figuresByHand makes a table of figures by the hour as one would lay it out for SQL: of so many items of each host, by
// kind.
const figuresByHand = `CREATE TABLE by_hand AS SELECT kind, h.id AS host_id, item, start, random() * 3600e6 AS over,
		3600e6 AS per, random() AS most
	FROM (VALUES ('workload', 20), ('workload and CPU', 100), ('drive', 9), ('interface', 6), ('gpu', 8), ('cpu', 128),
			('sensor', 8)) k(kind, n),
		hosts h, generate_series(1, n) item, generate_series($1::timestamptz, $2, '1 hour') start`

// byHandOfAWeek asks that table for the eight highest, hour by hour, and for all others together.
const byHandOfAWeek = `WITH w AS MATERIALIZED (SELECT * FROM by_hand WHERE kind = $3 AND start >= $1 AND start < $2
			AND ($4 = '' OR host_id = (SELECT id FROM hosts WHERE name = $4))),
		top AS (SELECT host_id, item, true AS told FROM w GROUP BY 1, 2 ORDER BY sum(over) / sum(per) DESC LIMIT 8)
	SELECT coalesce(host_id * told::int, 0), coalesce(item * told::int, 0), start, sum(over) / sum(per), max(most)
	FROM w LEFT JOIN top USING (host_id, item) GROUP BY 1, 2, 3 ORDER BY 1, 2, 3`

// floors are how long hand-written SQL takes: only to fetch what holds an answer, and to answer it from a table of its
// own.
type floors struct {
	url          string
	from         time.Time
	known        map[string]time.Duration
	fetch, table time.Duration // of the series that was measured last
}

// measure measures both for a series.
func (f *floors) measure(b *testing.B, x *series) {
	host, measure := x.query.Get("host"), x.query.Get("of")
	if strings.HasPrefix(x.path, "/hosts/") {
		host = strings.Split(x.path, "/")[2]
	}
	kind := "workload"
	switch figure := leaf.PartFigureNamed(measure); {
	case figure != nil:
		kind = figure.Of
	case x.query.Get("by") == "cpu", x.path != "/series":
		kind = "workload and CPU"
	}
	f.fetch = f.of(b, leavesOfAWeek, sectionsOf(measure), host)
	f.table = f.of(b, byHandOfAWeek, kind, host)
}

// of is how long a query takes for a week.
func (f *floors) of(b *testing.B, query string, more ...any) time.Duration {
	key := fmt.Sprint(query, more)
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
		rows, err := conn.Query(ctx, query, append([]any{from, from.AddDate(0, 0, 7)}, more...)...)
		require.NoError(b, err)
		for rows.Next() {
			_, err := rows.Values()
			require.NoError(b, err)
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
// another week each time, so that nothing of it is remembered. It is told as a multiple of what hand-written SQL takes
// to answer it from a table by the hour, and to fetch the rows that hold the answer in the book.
func BenchmarkSeries(b *testing.B) {
	by := floors{known: map[string]time.Duration{}}
	program, data, span, _ := book(b, 21, func(s *service, f *crowd.Fleet) {
		s.furnish(b)
		f.EveryPart = true
	}, func(url string, span question.Span) {
		conn, err := pgx.Connect(ctx, url)
		require.NoError(b, err)
		defer conn.Close(ctx)
		for _, statement := range []struct {
			sql  string
			args []any
		}{
			{figuresByHand, []any{span.From, span.To}}, {"CREATE INDEX ON by_hand (kind, start)", nil},
			{"ANALYZE", nil},
		} {
			_, err = conn.Exec(ctx, statement.sql, statement.args...)
			require.NoError(b, err)
		}
		by.url, by.from = url, span.From
		for i := range asked {
			by.measure(b, &asked[i])
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
			by.measure(b, &x)
			b.ReportMetric(float64(taken)/float64(n)/float64(by.table), "x-by-hand")
			b.ReportMetric(float64(taken)/float64(n)/float64(by.fetch), "x-fetch")
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
