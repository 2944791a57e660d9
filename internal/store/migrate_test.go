package store_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/question"
	"vinescale/internal/store"
	"vinescale/internal/testdb"
)

// TestOpen_ABookOfTheVersionBeforeIsTakenOver has a book of version 1 with hours and a day that are still to be summed,
// and others that are. The statements write what its program wrote.
func TestOpen_ABookOfTheVersionBeforeIsTakenOver(t *testing.T) {
	database := testdb.New(t)
	old, err := store.OpenAt(ctx, database, 1)
	require.NoError(t, err)
	require.NoError(t, old.EnsureDay(ctx, noon))
	tx := old.Begin(ctx)
	for _, statement := range []string{
		`INSERT INTO hosts (name) VALUES ('cellar-1'), ('press-1')`,
		`INSERT INTO tokens (name, hash, role) VALUES ('cellarer', 'its hash', 'reader')`,
		`INSERT INTO tenant_minute (minute, host_id, tenant_id, cpu) VALUES
			('2026-10-11T09:10:00Z', 1, 0, 5), ('2026-10-11T09:10:00Z', 2, 0, 7), ('2026-10-11T10:20:00Z', 2, 0, 3)`,
		`INSERT INTO peak_hours VALUES ('2026-10-11T09:00:00Z')`,
		`INSERT INTO tenant_peak (hour, host_id, tenant_id, cpu) VALUES ('2026-10-11T09:00:00Z', 0, 0, 12)`,
		`INSERT INTO hour_leaves VALUES (1, '2026-10-09T09:00:00Z', 'host', ''),
			(1, '2026-10-10T09:00:00Z', 'host', ''), (2, '2026-10-10T10:00:00Z', 'host', ''),
			(2, '2026-10-10T10:00:00Z', 'who', '')`,
		`INSERT INTO day_leaves VALUES (1, '2026-10-09T00:00:00Z', 'host', '')`,
		`INSERT INTO tenants (name, colour) VALUES ('Frost Watch', 1)`,
		`INSERT INTO quotas VALUES (1, 'cpu', 4, '2026-10-01T08:15:42Z')`,
		`INSERT INTO pins (host_id, tenant_id, cpus, created_at) VALUES (2, 1, '4-7', '2026-10-02T08:15:42Z')`,
	} {
		require.NoError(t, tx.Exec(statement).Error)
	}
	require.NoError(t, tx.Commit().Error)
	require.NoError(t, old.Close())

	s, err := store.Open(ctx, database)
	require.NoError(t, err)
	defer s.Close()
	told := func(query string) (text string) {
		require.NoError(t, s.Rows(ctx, query).Scan(&text))
		return text
	}
	assert.Equal(t, "1 2026-10-10, 2 2026-10-10",
		told("SELECT string_agg(host_id || ' ' || day::date, ', ' ORDER BY host_id, day) FROM due_days"))
	assert.Equal(t, "1 2026-10-09", told("SELECT string_agg(host_id || ' ' || day::date, ', ') FROM unbound_days"))
	assert.Equal(t, "2026-10-11 10:00:00+00", told("SELECT string_agg(hour::text, ', ') FROM due_peaks"))
	require.NoError(t, s.SumPeaks(ctx, noon))
	assert.Equal(t, "10:00 0 3, 10:00 2 3, 9:00 0 12", told(`SELECT string_agg(extract(hour FROM hour) || ':00 ' ||
			host_id || ' ' || cpu, ', ' ORDER BY extract(hour FROM hour)::text, host_id) FROM tenant_peak`),
		"what is known stays, what is not is found")
	assert.Equal(t, "0", told("SELECT count(*)::text FROM due_peaks"))
	assert.Equal(t, "1 cpu 4 2026-10-01 08:15:00+00", told(`SELECT string_agg(concat_ws(' ', tenant_id, resource,
		ceiling, soft, applies_at), ', ') FROM quota_changes`), "a quota is in force from when it was set")
	pins, err := s.Pins(ctx)
	require.NoError(t, err)
	require.Len(t, pins, 1)
	assert.Equal(t, []any{"press-1", "Frost Watch", "4-7", true, "2026-10-02T08:15:00Z", (*time.Time)(nil)},
		[]any{pins[0].Host.Name, pins[0].Tenant.Name, pins[0].CPUs, pins[0].Exclusive,
			pins[0].From.UTC().Format(time.RFC3339), pins[0].Until}, "and CPUs are declared from when they were")
	tokens, err := s.Tokens(ctx)
	require.NoError(t, err)
	require.Len(t, tokens, 1)
	assert.True(
		t,
		tokens[0].Role == "reader" && tokens[0].Scope.IsEverywhere(),
		"who could read still can, and no more",
	)
	h, err := s.HostByName(ctx, "press-1")
	require.NoError(t, err)
	ingest(t, s, h, minute("press-1", noon, 1, map[string]float64{"press": 6}))
	assert.Equal(t, 6.0, shares(t, s, "workload")["press"], "and it goes on")
	assert.InDelta(t, 8e6, lines(t, s, 0, question.Span{From: noon, To: noon.Add(time.Hour)}, 0).Of[0].Used.Units, 1)
}
