package crowd_test

import (
	"maps"
	"net/http"
	"net/url"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"vinescale/core/question"
	"vinescale/internal/crowd"
	"vinescale/internal/stage"
	"vinescale/internal/store"
)

// minutesOfAMonth makes up what tenants had in each minute of a span: up and down by the hour, with a little that
// differs from minute to minute.
const minutesOfAMonth = `INSERT INTO tenant_minute (minute, host_id, tenant_id, cpu, memory, disk, network, gpu,
		gpu_memory, energy)
	SELECT m, h.id, t.id, x * 60e6, x * 60e3 * 2^30, x * 3e9, x * 2e9, x * 6e6, x * 60e3 * 2^28, x * 5e9
	FROM generate_series($1::timestamptz, $2::timestamptz - interval '1 minute', '1 minute') m, hosts h, tenants t,
		LATERAL (SELECT (0.5 + 0.3 * sin(extract(epoch FROM m) / 9000 + t.id)
			+ 0.02 * ((extract(minute FROM m)::int * 7 + h.id) % 11)) * t.id / 4 AS x) x`

// byHand asks of each tenant the mean, the highest minute, that which 95 of 100 do not exceed, and for how many minutes
// its ceiling of CPU was exceeded, as one would write it down.
const byHand = `WITH m AS (SELECT minute, tenant_id, sum(cpu) AS cpu, sum(memory) AS memory, sum(disk) AS disk,
			sum(network) AS network
		FROM tenant_minute WHERE minute >= $1 AND minute < $2 GROUP BY 1, 2)
	SELECT tenant_id, avg(cpu)::float8, max(cpu)::float8, percentile_disc(0.95) WITHIN GROUP (ORDER BY cpu)::float8,
		count(*) FILTER (WHERE cpu > 5 * 60e6), max(memory)::float8, max(disk)::float8, max(network)::float8
	FROM m GROUP BY 1`

// BenchmarkAccount asks for the balance with all quotas and allowances, and for the audit of pins, over a month of
// twelve hosts. The floor is the same of CPU alone by hand-written SQL.
func BenchmarkAccount(b *testing.B) {
	var databaseURL string
	program, data, month, _ := book(
		b,
		31,
		func(s *service, _ *crowd.Fleet) { s.furnish(b) },
		func(url string, span question.Span) {
			books, err := store.Open(ctx, url)
			require.NoError(b, err)
			defer books.Close()
			for day := span.From; !day.After(span.To); day = day.AddDate(0, 0, 1) {
				require.NoError(b, books.EnsureDay(ctx, day))
			}
			conn, err := pgx.Connect(ctx, url)
			require.NoError(b, err)
			defer conn.Close(ctx)
			for _, statement := range []string{
				"TRUNCATE tenant_peak, peak_hours, due_peaks", "TRUNCATE tenant_minute"} {
				_, err := conn.Exec(ctx, statement)
				require.NoError(b, err)
			}
			_, err = conn.Exec(ctx, minutesOfAMonth, span.From, span.To)
			require.NoError(b, err)
			_, err = conn.Exec(ctx, `INSERT INTO due_peaks SELECT generate_series($1::timestamptz,
			$2::timestamptz - interval '1 hour', '1 hour') ON CONFLICT DO NOTHING`, span.From, span.To)
			require.NoError(b, err)
			require.NoError(b, books.SumPeaks(ctx, span.To))
			_, err = conn.Exec(ctx, "ANALYZE")
			require.NoError(b, err)
			begin := time.Now()
			for range 3 {
				rows, err := conn.Query(ctx, byHand, span.From, span.To)
				require.NoError(b, err)
				rows.Close()
				require.NoError(b, rows.Err())
			}
			b.Logf("by hand: %.0f ms", time.Since(begin).Seconds()*1000/3)
			hand = time.Since(begin) / 3
			databaseURL = url
		},
	)
	require.NotEmpty(b, databaseURL)
	s := start(b, program, data)
	to := s.client(b)
	long := month.From.AddDate(0, -1, 0)
	for _, q := range stage.Quotas {
		if q.Host != "" || q.Pool != "" || q.Tenant == stage.Department {
			continue
		}
		body := map[string]any{
			"ceiling": q.Ceiling,
			"from":    long,
			"window":  q.Window,
			"zone":    q.Zone,
		}
		require.NoError(
			b,
			to.Send(ctx, http.MethodPut, "/api/v1/quotas/"+url.PathEscape(q.Tenant)+"/"+q.Resource, body, nil),
		)
	}
	for _, host := range []string{"cellar-1", "press-1", "terrace-1", "terrace-2"} {
		require.NoError(b, to.Send(ctx, http.MethodPut, "/api/v1/pins", map[string]any{"host": host, "cpus": "0-1",
			"holder": "Frost Watch", "from": long}, nil))
	}
	query := url.Values{"from": {month.From.Format(time.RFC3339)}, "to": {month.To.Format(time.RFC3339)}}
	query.Set("window", month.From.AddDate(0, 0, 15).Format("2006-01")) // a statement's month, which is most of it
	for path, more := range map[string]url.Values{"/balance": nil, "/pins": nil, "/statements/account": nil,
		"/whatif/empty": nil, "/whatif/pins": {"host": {"cellar-1"}, "cpus": {"2-3"}, "holder": {"Frost Watch"}}} {
		query := maps.Clone(query)
		maps.Copy(query, more)
		b.Run(path[1:]+"/month", func(b *testing.B) {
			var taken time.Duration
			n := 0
			for b.Loop() {
				begin := time.Now()
				require.NoError(b, to.Get(ctx, "/api/v1"+path, query, nil))
				taken += time.Since(begin)
				n++
			}
			b.ReportMetric(taken.Seconds()*1000/float64(n), "ms")
			b.ReportMetric(float64(taken)/float64(n)/float64(hand), "x-by-hand")
			b.ReportMetric(0, "ns/op")
		})
	}
}

// hand is how long the same takes by hand-written SQL.
var hand time.Duration
