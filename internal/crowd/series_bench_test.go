package crowd_test

import (
	"net/url"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"vinescale/core/question"
)

// leavesOfAWeek fetches what holds the answer to a series by the hour: what all workloads of all hosts used.
const leavesOfAWeek = `SELECT body FROM hour_leaves WHERE start >= $1 AND start < $2
	AND section IN ('host', 'who', 'uses')`

// BenchmarkSeries asks how it went over a week of twelve hosts of 20 workloads: another week each time, so that nothing
// of it is remembered. The floor is to fetch the rows that hold the answer, by hand-written SQL.
func BenchmarkSeries(b *testing.B) {
	var floor time.Duration
	program, data, span, _ := book(b, 21, func(s *service) { s.furnish(b) }, func(url string, span question.Span) {
		conn, err := pgx.Connect(ctx, url)
		require.NoError(b, err)
		defer conn.Close(ctx)
		_, err = conn.Exec(ctx, "ANALYZE")
		require.NoError(b, err)
		const times = 5
		begin := time.Now()
		for i := range times {
			from := span.From.Add(time.Duration(i) * 24 * time.Hour)
			rows, err := conn.Query(ctx, leavesOfAWeek, from, from.AddDate(0, 0, 7))
			require.NoError(b, err)
			for rows.Next() {
				var body []byte
				require.NoError(b, rows.Scan(&body))
			}
			require.NoError(b, rows.Err())
		}
		floor = time.Since(begin) / times
	})
	s := start(b, program, data)
	to := s.client(b)
	shift := 0
	for _, x := range []struct{ name, path, query string }{
		{"cpu-by-tenant", "/series", "of=cpu&by=tenant"}, {"cpu-by-workload", "/series", "of=cpu&by=workload"},
		{"memory-by-host", "/series", "of=memory&by=host"},
		{"disk-by-user-of-a-host", "/series", "of=disk&by=user&host=press-1"},
		{"cpu-by-cpu-of-a-host", "/series", "of=cpu&by=cpu&host=press-1"},
		{"waiting-by-workload", "/series", "of=cpu_wait_us&by=workload"},
		{"placement-of-a-host", "/hosts/press-1/placement", "by=workload"},
	} {
		b.Run(x.name, func(b *testing.B) {
			var taken time.Duration
			n := 0
			for b.Loop() {
				q, err := url.ParseQuery(x.query)
				require.NoError(b, err)
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
			b.ReportMetric(float64(taken)/float64(n)/float64(floor), "x-floor")
			b.ReportMetric(0, "ns/op")
		})
	}
}
