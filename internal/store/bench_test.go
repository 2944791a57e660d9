package store_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/leaf"
	"vinescale/core/question"
	"vinescale/internal/crowd"
	"vinescale/internal/identify"
	"vinescale/internal/pack"
	"vinescale/internal/stage"
	"vinescale/internal/store"
	"vinescale/internal/testdb"
	"vinescale/internal/wire"
)

// hourOf is what the collectors of the cooperative's hosts send in an hour, by host.
func hourOf(b *testing.B, from time.Time) map[string][]*wire.Interval {
	sent := map[string][]*wire.Interval{}
	for _, h := range stage.Fleet(from) {
		tree := stage.Tree{Dir: filepath.Join(b.TempDir(), h.Name)}
		require.NoError(b, h.Render(tree))
		registry := identify.NewRegistry(identify.Options{Roots: identify.Roots{Etc: tree.Etc(), Run: tree.Run(),
			Proc: tree.Proc()}})
		os.RemoveAll(tree.Proc())
		var tracker account.Tracker
		tracker.Step(h.Reading(registry))
		for n := range 60 {
			h.Advance(time.Minute)
			iv, err := tracker.Step(h.Reading(registry))
			require.NoError(b, err)
			sent[h.Name] = append(sent[h.Name], wire.FromInterval(iv, uint64(n+1), "v2", registry))
		}
	}
	return sent
}

// BenchmarkIntake takes in intervals of 300 workloads with every figure, one at a time as collectors send them, from
// the bytes of the batch on. It tells the CPU time of the service and of the database together; its floor is to unpack
// and check the batch alone.
func BenchmarkIntake(b *testing.B) {
	s, h := open(b)
	rng := rand.New(rand.NewPCG(3, 4))
	v := version(b, s)
	take := func(raw []byte) {
		batch, err := wire.Decode(raw, wire.TypeProtobuf, "zstd")
		require.NoError(b, err)
		_, err = s.Ingest(ctx, h, batch, v, nobody)
		require.NoError(b, err)
	}
	sequence := uint64(0)
	next := func() []byte {
		sequence++
		raw, err := wire.Encode(&wire.Batch{Version: wire.Version, Host: h.Name, Intervals: []*wire.Interval{
			crowd.Minute(rng, h.Name, 300, noon.Add(time.Duration(sequence)*time.Minute), sequence)}})
		require.NoError(b, err)
		return raw
	}
	take(next()) // makes the workloads known
	var taken, floor time.Duration
	n := 0
	for b.Loop() {
		var batches [][]byte
		for range 30 {
			batches = append(batches, next())
		}
		before := cpuTime(b)
		for _, raw := range batches {
			take(raw)
		}
		taken += cpuTime(b) - before
		before = cpuTime(b)
		for _, raw := range batches {
			_, err := wire.Decode(raw, wire.TypeProtobuf, "zstd")
			require.NoError(b, err)
		}
		floor += cpuTime(b) - before
		n += len(batches)
	}
	b.ReportMetric(taken.Seconds()*1000/float64(n), "cpu-ms/interval")
	b.ReportMetric(float64(taken)/float64(floor), "x-floor")
	b.ReportMetric(0, "ns/op")
}

// cpuTime is how much CPU time this process and those below it have used: the database's are.
func cpuTime(b *testing.B) time.Duration {
	var own syscall.Rusage
	require.NoError(b, syscall.Getrusage(syscall.RUSAGE_SELF, &own))
	sum := time.Duration(own.Utime.Nano() + own.Stime.Nano())
	stats, err := filepath.Glob("/proc/[0-9]*/stat")
	require.NoError(b, err)
	parents, times := map[int]int{}, map[int]int64{}
	for _, path := range stats {
		raw, err := os.ReadFile(path)
		if err != nil {
			continue // it ended meanwhile
		}
		fields := strings.Fields(string(raw[strings.LastIndexByte(string(raw), ')')+1:]))
		pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(path)))
		parents[pid], _ = strconv.Atoi(fields[1])
		for _, field := range fields[11:15] { // its own, and of those that it waited for
			ticks, _ := strconv.ParseInt(field, 10, 64)
			times[pid] += ticks
		}
	}
	for pid := range times {
		for p := parents[pid]; p > 1; p = parents[p] {
			if p == os.Getpid() {
				sum += time.Duration(times[pid]) * 10 * time.Millisecond
				break
			}
		}
	}
	return sum
}

// BenchmarkBytes tells how much room a workload-minute takes: what is kept of it in the quire of its hour. Its floor is
// the batch as its collector sends it, compressed, without what is kept of the newest interval only.
func BenchmarkBytes(b *testing.B) {
	for b.Loop() {
		kept, sent, minutes := 0, 0, 0
		for _, list := range hourOf(b, noon) {
			var loose []*leaf.Leaf
			for _, iv := range list {
				who := make([]leaf.User, len(iv.Workloads.Key))
				for i := range who {
					who[i] = leaf.User{Workload: int64(1000 + i)}
				}
				minutes += len(who)
				loose = append(loose, iv.Leaf(1, who))
				raw, err := wire.Encode(&wire.Batch{Version: wire.Version, Intervals: []*wire.Interval{iv}})
				require.NoError(b, err)
				sent += len(raw)
			}
			kept += store.Packed(leaf.Join(loose...))
		}
		b.ReportMetric(float64(kept)/float64(minutes), "bytes/workload-minute")
		b.ReportMetric(float64(sent)/float64(minutes), "floor-bytes")
		b.ReportMetric(float64(kept)/float64(sent), "x-floor")
	}
	b.ReportMetric(0, "ns/op")
}

// BenchmarkBytesNoisy is BenchmarkBytes for a host of 300 workloads, each on five CPUs, of which every figure is
// another every minute.
func BenchmarkBytesNoisy(b *testing.B) {
	rng := rand.New(rand.NewPCG(5, 6))
	for b.Loop() {
		sent, minutes := 0, 0
		var loose []*leaf.Leaf
		for at := range 60 {
			iv := crowd.Minute(rng, "press-1", 300, noon.Add(time.Duration(at)*time.Minute), uint64(at+1))
			who := make([]leaf.User, len(iv.Workloads.Key))
			for i := range who {
				who[i] = leaf.User{Workload: int64(1000 + i), Tenant: int32(i % 8)}
			}
			minutes += len(who)
			loose = append(loose, iv.Leaf(1, who))
			raw, err := wire.Encode(&wire.Batch{Version: wire.Version, Intervals: []*wire.Interval{iv}})
			require.NoError(b, err)
			sent += len(raw)
		}
		kept := store.Packed(leaf.Join(loose...))
		b.ReportMetric(float64(kept)/float64(minutes), "bytes/workload-minute")
		b.ReportMetric(float64(sent)/float64(minutes), "floor-bytes")
		b.ReportMetric(float64(kept)/float64(sent), "x-floor")
	}
	b.ReportMetric(0, "ns/op")
}

// BenchmarkAsk asks over an hour, a week and a month of twelve hosts. Hours and days are synthesised from one hour. The
// floor of each is a program by hand: it fetches the rows that hold the answer by SQL, and unpacks the columns asked
// for.
func BenchmarkAsk(b *testing.B) {
	database := testdb.New(b)
	s, err := store.Open(ctx, database)
	require.NoError(b, err)
	end := noon.AddDate(0, 0, 30).Truncate(24 * time.Hour)
	month := question.Span{From: end.AddDate(0, 0, -30), To: end}
	fillMonth(b, s, database, month)
	for _, of := range []struct {
		name  string
		q     question.Question
		want  string // sections that hold the answer
		table string
	}{
		{"tenants", question.Question{Measures: amount.Resources(), By: []question.Dimension{question.Tenant}},
			"'host', 'who', 'uses'", leaf.Uses},
		{"workloads", question.Question{Measures: amount.Resources(), By: []question.Dimension{question.Workload},
			State: true, Page: question.Page{First: 20}}, "'host', 'who', 'uses'", leaf.Uses},
		{"programs", question.Question{Measures: amount.Resources(), By: []question.Dimension{question.Program}},
			"'host', 'who', 'uses', 'programs'", leaf.Programs},
		{"reads", question.Question{Measures: []amount.Measure{amount.DiskReads},
			By: []question.Dimension{question.Workload}}, "'host', 'who', 'uses', 'of disk'",
			leaf.OfMeasure(amount.DiskReads)},
	} {
		for name, length := range map[string]time.Duration{"hour": time.Hour, "week": 7 * 24 * time.Hour,
			"month": 30 * 24 * time.Hour} {
			b.Run(of.name+"/"+name, func(b *testing.B) {
				of.q.Scope.Span = question.Span{From: end.Add(-length), To: end}
				table, from := "day_leaves", of.q.Scope.Span.From
				if length == time.Hour {
					table, from = "day_quires", question.ByDay.Floor(from)
				}
				query := fmt.Sprintf(
					"SELECT host_id, start, section, body FROM %s WHERE start >= '%s' AND section IN (%s)",
					table, from.Format(time.RFC3339), of.want)
				columns := leaf.WantOf(func(table, column string) bool {
					return table == leaf.Who || table == of.table && (column == "units" ||
						slices.Contains(amount.ResourceNames(), column)) || table == leaf.Intervals && column == "start"
				})
				var floor, taken, again time.Duration
				for b.Loop() {
					of.q.Page.First++ // another question each time, of which nothing is remembered
					start := time.Now()
					a, err := s.Ask(ctx, of.q)
					taken += time.Since(start)
					require.NoError(b, err)
					require.NotEmpty(b, a.Rows)
					start = time.Now()
					_, err = s.Ask(ctx, of.q)
					again += time.Since(start)
					require.NoError(b, err)
					start = time.Now()
					fetch(b, s, query, columns)
					floor += time.Since(start)
				}
				b.ReportMetric(taken.Seconds()*1000/float64(b.N), "ms")
				b.ReportMetric(again.Seconds()*1000/float64(b.N), "ms-again")
				b.ReportMetric(float64(taken)/float64(floor), "x-floor")
				b.ReportMetric(0, "ns/op")
			})
		}
	}
}

// fetch runs a query of leaves' sections and unpacks columns of them.
func fetch(b *testing.B, s *store.Store, query string, columns leaf.Want) {
	tx := s.Begin(ctx)
	defer tx.Rollback()
	rows, err := tx.Raw(query).Rows()
	require.NoError(b, err)
	defer rows.Close()
	for rows.Next() {
		var host int32
		var start time.Time
		var section string
		var body []byte
		require.NoError(b, rows.Scan(&host, &start, &section, &body))
		require.NoError(b, pack.Decode(body, leaf.New(host), columns))
	}
}

// fillMonth takes in an hour of the cooperative, and puts its sums in the place of every hour and day of a span.
func fillMonth(b *testing.B, s *store.Store, database string, span question.Span) {
	_, err := s.AddTenant(ctx, "Cellar Intake")
	require.NoError(b, err)
	for name, list := range hourOf(b, span.From) {
		require.NoError(b, s.Enrol(ctx, name, "secret of "+name))
		h, err := s.HostByName(ctx, name)
		require.NoError(b, err)
		_, err = s.Ingest(ctx, h, &wire.Batch{Version: wire.Version, Host: name, Intervals: list}, version(b, s),
			nobody)
		require.NoError(b, err)
	}
	_, _, err = s.Fold(ctx, span.From.Add(3*time.Hour))
	require.NoError(b, err)
	require.NoError(b, crowd.Repeat(ctx, database, span.From, span))
}

// BenchmarkIngest takes in batches of 30 intervals of 300 workloads. Its floor, measured in turn with it, is a COPY of
// the same usage rows into a table of the same columns and indexes.
func BenchmarkIngest(b *testing.B) {
	s, h := open(b)
	_, err := s.Ingest(ctx, h, minute(h.Name, noon, 1, map[string]float64{"must": 1}), version(b, s), nobody)
	require.NoError(b, err)
	seconds := map[string]float64{}
	for i := range 300 {
		seconds[fmt.Sprintf("intake-%d", i)] = 0.1
	}
	conn := benchTable(b)
	v := version(b, s)
	var floor, taken time.Duration
	rows := 0
	sequence := uint64(10)
	for b.Loop() {
		batch := &wire.Batch{Version: 1, Host: h.Name}
		for range 30 {
			sequence++
			batch.Intervals = append(batch.Intervals,
				minute(h.Name, noon.Add(time.Duration(sequence)*time.Minute), sequence, seconds).Intervals...)
		}
		start := time.Now()
		t, err := s.Ingest(ctx, h, batch, v, nobody)
		taken += time.Since(start)
		require.NoError(b, err)
		rows += t.Rows
		start = time.Now()
		bareCopy(b, conn, t.Rows)
		floor += time.Since(start)
	}
	b.ReportMetric(float64(rows)/taken.Seconds(), "rows/s")
	b.ReportMetric(float64(rows)/floor.Seconds(), "floor-rows/s")
	b.ReportMetric(float64(taken)/float64(floor), "x-floor")
	b.ReportMetric(0, "ns/op")
}

func benchTable(b *testing.B) *pgx.Conn {
	conn, err := pgx.Connect(ctx, testdb.New(b))
	require.NoError(b, err)
	b.Cleanup(func() { conn.Close(ctx) })
	_, err = conn.Exec(ctx, `CREATE TABLE bare (
		host_id integer, workload_id bigint, tenant_id integer, start timestamptz,
		elapsed_ms bigint,
		cpu bigint, cpu_peak bigint, cpu_source smallint, memory bigint, memory_peak bigint, memory_source smallint,
		disk bigint, disk_peak bigint, disk_source smallint,
		network bigint, network_peak bigint, network_source smallint);
		CREATE INDEX ON bare (host_id, start); CREATE INDEX ON bare USING brin (start)`)
	require.NoError(b, err)
	return conn
}

func bareCopy(b *testing.B, conn *pgx.Conn, n int) {
	row := []any{int32(1), int64(1), int32(0), noon, int64(60_000), int64(1), int64(1), int16(0), int64(1), int64(1),
		int16(0), int64(1), int64(1), int16(0), int64(1), int64(1), int16(0)}
	_, err := conn.CopyFrom(ctx, pgx.Identifier{"bare"},
		[]string{"host_id", "workload_id", "tenant_id", "start", "elapsed_ms", "cpu", "cpu_peak", "cpu_source",
			"memory", "memory_peak", "memory_source", "disk", "disk_peak", "disk_source", "network", "network_peak",
			"network_source"},
		pgx.CopyFromSlice(n, func(int) ([]any, error) { return row, nil }))
	require.NoError(b, err)
}
