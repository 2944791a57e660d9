package store

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// Dimensions are what shares can be grouped by.
var Dimensions = []string{
	"tenant", "user", "workload", "kind", "host", "program", "family", "pod", "pod_namespace", "image", "account",
	"partition",
}

// LabelPrefix begins a dimension that groups by the value of a label: "label:KEY".
const LabelPrefix = "label:"

// IsDimension tells whether shares can be grouped by a word.
func IsDimension(by string) bool {
	return slices.Contains(Dimensions, by) || strings.HasPrefix(by, LabelPrefix) && len(by) > len(LabelPrefix)
}

// factDimensions are the dimensions that are facts of a workload.
var factDimensions = map[string]string{
	"pod": account.FactPod, "pod_namespace": account.FactNamespace, "image": account.FactImage,
	"account": account.FactAccount, "partition": account.FactPartition,
}

// ShareRow is one group's use of one resource over a span, in account units.
type ShareRow struct {
	Name, Kind, Owner, Tenant, Host string
	Workload                        string // of a family
	WorkloadID                      int64
	TenantID                        int32
	Units                           float64
	Peak                            int64 // of the highest tick, for a workload
	Source                          int16
	Parts                           int
	Missing                         int // of Parts: without a figure
}

// ShareQuestion says what is asked.
type ShareQuestion struct {
	Span     Span
	Resource amount.Resource
	By       string  // one of Dimensions, or a label
	HostID   int32   // 0 for all
	TenantID *int32  // nil for all
	Only     []int64 // workloads; nil for all
}

// Shares adds up usage by a dimension. Every dimension adds the same rows, so their sums agree.
func (s *Store) Shares(ctx context.Context, q ShareQuestion) ([]ShareRow, error) {
	if !IsDimension(q.By) {
		return nil, fmt.Errorf("cannot group by %q: choose one of %s", q.By, strings.Join(Dimensions, ", "))
	}
	tenant := int32(-1)
	if q.TenantID != nil {
		tenant = *q.TenantID
	}
	r := q.Resource.String()
	unavailable := int16(amount.Unavailable)
	const where = `u.start >= $1 AND u.start < $2 AND ($3 = 0 OR u.host_id = $3) AND ($6::bigint[] IS NULL OR u.workload_id = ANY($6))`
	var query string
	switch q.By {
	case "program", "family":
		// Parts are processes: for each workload the most at the end of one interval.
		name, family, id := "coalesce(p.name, '')", "'' AS workload, '' AS owner, '' AS host, '' AS kind", "program_id"
		if q.By == "family" {
			name, family, id = "coalesce(p.name, '')",
				"w.name AS workload, w.owner AS owner, h.name AS host, w.kind AS kind", "family_id"
		}
		query = fmt.Sprintf(`SELECT name, workload, owner, host, kind, sum(units)::float8 AS units, max(source) AS source, sum(parts) AS parts FROM (
			SELECT %[1]s AS name, %[2]s, sum(u.%[3]s) AS units,
				CASE WHEN u.program_id = 0 THEN 0 WHEN $4 = 3 THEN %[4]d ELSE 1 END AS source, max(u.processes) AS parts
			FROM program_minute u LEFT JOIN programs p ON p.id = u.%[5]s JOIN workloads w ON w.id = u.workload_id JOIN hosts h ON h.id = u.host_id
			WHERE %[6]s AND ($5 < 0 OR w.tenant_id = $5) AND $7::text IS NOT NULL
			GROUP BY u.workload_id, u.%[5]s, u.program_id, 1, 2, 3, 4, 5) AS by_workload
			GROUP BY 1, 2, 3, 4, 5`, name, family, r, unavailable, id, where)
	default:
		group := map[string]string{
			"tenant":   "coalesce(t.name, '') AS name, coalesce(t.id, 0) AS tenant_id",
			"user":     "w.owner AS name, w.owner AS owner",
			"kind":     "w.kind AS name, w.kind AS kind",
			"host":     "h.name AS name, h.name AS host",
			"workload": "w.name AS name, w.kind AS kind, w.owner AS owner, h.name AS host, coalesce(t.name, '') AS tenant, coalesce(t.id, 0) AS tenant_id, w.id AS workload_id",
		}[q.By]
		if _, ok := factDimensions[q.By]; ok {
			group = "coalesce(w.facts->>$7, '') AS name"
		} else if group == "" {
			group = "coalesce(w.labels->>$7, '') AS name"
		}
		columns := strings.Count(group, " AS ")
		ordinals := make([]string, columns)
		for i := range ordinals {
			ordinals[i] = fmt.Sprint(i + 1)
		}
		query = fmt.Sprintf(`SELECT %[1]s, sum(u.%[2]s)::float8 AS units, max(u.%[2]s_peak) AS peak,
				coalesce(max(u.%[2]s_source) FILTER (WHERE u.%[2]s_source < %[3]d), %[3]d) AS source, count(DISTINCT u.workload_id) AS parts,
				count(DISTINCT u.workload_id) FILTER (WHERE u.%[2]s_source = %[3]d) AS missing
			FROM usage_minute u JOIN workloads w ON w.id = u.workload_id JOIN hosts h ON h.id = u.host_id LEFT JOIN tenants t ON t.id = u.tenant_id
			WHERE %[4]s AND ($5 < 0 OR coalesce(t.id, 0) = $5) AND $4 >= 0 AND $7::text IS NOT NULL
			GROUP BY %[5]s`, group, r, unavailable, where, strings.Join(ordinals, ", "))
	}
	label := strings.TrimPrefix(q.By, LabelPrefix)
	if fact, ok := factDimensions[q.By]; ok {
		label = fact
	}
	var rows []ShareRow
	err := s.db.WithContext(ctx).Raw(query, q.Span.From, q.Span.To, q.HostID, int(q.Resource), tenant, q.Only,
		label).Scan(&rows).Error
	if err != nil {
		return nil, fmt.Errorf("shares by %s: %w", q.By, err)
	}
	return rows, nil
}

// TenantUse is one tenant's use of every resource over a span, in account units.
type TenantUse struct {
	TenantID                   int32 // 0 for unassigned
	Workloads                  int
	CPU, Memory, Disk, Network float64
	// Workloads without a figure, in the minute that had most.
	CPUMissing, MemoryMissing, DiskMissing, NetworkMissing int
	// The highest sum of one minute over the hosts asked for, in account units of that minute.
	CPUPeak, MemoryPeak, DiskPeak, NetworkPeak float64
}

// TenantUses adds up what each tenant used, with its true concurrent peak: the minute in which its sum was highest.
func (s *Store) TenantUses(ctx context.Context, hostID int32, span Span) ([]TenantUse, error) {
	const query = `WITH by_minute AS (
			SELECT minute, coalesce(t.id, 0) AS tenant_id, sum(cpu) AS cpu, sum(memory) AS memory, sum(disk) AS disk, sum(network) AS network,
				sum(cpu_missing) AS cpu_missing, sum(memory_missing) AS memory_missing, sum(disk_missing) AS disk_missing, sum(network_missing) AS network_missing
			FROM tenant_minute m LEFT JOIN tenants t ON t.id = m.tenant_id
			WHERE minute >= $1 AND minute < $2 AND ($3 = 0 OR host_id = $3) GROUP BY 1, 2),
		running AS (
			SELECT coalesce(t.id, 0) AS tenant_id, count(DISTINCT workload_id) AS workloads
			FROM usage_minute u LEFT JOIN tenants t ON t.id = u.tenant_id
			WHERE start >= $1 AND start < $2 AND ($3 = 0 OR host_id = $3) GROUP BY 1)
		SELECT b.tenant_id, max(r.workloads) AS workloads,
			sum(cpu)::float8 AS cpu, sum(memory)::float8 AS memory, sum(disk)::float8 AS disk, sum(network)::float8 AS network,
			max(cpu)::float8 AS cpu_peak, max(memory)::float8 AS memory_peak, max(disk)::float8 AS disk_peak, max(network)::float8 AS network_peak,
			max(cpu_missing) AS cpu_missing, max(memory_missing) AS memory_missing, max(disk_missing) AS disk_missing, max(network_missing) AS network_missing
		FROM by_minute b LEFT JOIN running r USING (tenant_id) GROUP BY 1 ORDER BY 1`
	var uses []TenantUse
	err := s.db.WithContext(ctx).Raw(query, span.From.Truncate(time.Minute), span.To, hostID).Scan(&uses).Error
	return uses, err
}

// CPURow is what one workload ran on one CPU over a span.
type CPURow struct {
	WorkloadID int64
	CPU        int32 `gorm:"column:cpu"`
	Micros     int64
	Source     int16
}

// CPUUse adds up who ran where on a host.
func (s *Store) CPUUse(ctx context.Context, hostID int32, span Span) ([]CPURow, error) {
	const query = `SELECT workload_id, cpu, sum(spent)::bigint AS micros, max(source) AS source
		FROM cpu_minute, unnest(cpus, micros) AS x(cpu, spent) WHERE host_id = $1 AND start >= $2 AND start < $3 GROUP BY 1, 2 ORDER BY 2, 3 DESC`
	var rows []CPURow
	return rows, s.db.WithContext(ctx).Raw(query, hostID, span.From, span.To).Scan(&rows).Error
}

// RunningWorkloads lists the workloads that were on a host in a span.
func (s *Store) RunningWorkloads(ctx context.Context, hostID int32, span Span) ([]Workload, error) {
	var w []Workload
	return w, s.db.WithContext(ctx).Preload("Host").
		Where("id IN (SELECT DISTINCT workload_id FROM usage_minute WHERE host_id = ? AND start >= ? AND start < ?)",
			hostID, span.From, span.To).
		Order("id").Find(&w).Error
}

// WorkloadUse is a workload with what it used of every resource over a span, in account units.
type WorkloadUse struct {
	Workload
	HostName                                           string
	CPU, Memory, Disk, Network                         float64
	CPUPeak, MemoryPeak, DiskPeak, NetworkPeak         int64 // of the highest tick
	CPUSource, MemorySource, DiskSource, NetworkSource int16
	Threads, Processes                                 int64   // at the end of its newest interval
	RunnableMillis                                     float64 `gorm:"column:runnable_ms"`
	RunnablePeak                                       int64
	ElapsedMillis                                      int64 `gorm:"column:elapsed_ms"`
	CPUNow, MemoryNow, DiskNow, NetworkNow             int64 // of its newest interval
	NowMillis                                          int64 `gorm:"column:now_ms"`
	UsedFrom, UsedTo                                   time.Time
}

// UseQuestion chooses workloads: those that ran in a span.
type UseQuestion struct {
	Span   Span
	HostID int32   // 0 for all
	Only   []int64 // nil for all
}

// WorkloadUses lists the workloads that ran in a span with their use, most CPU time first.
func (s *Store) WorkloadUses(ctx context.Context, q UseQuestion) ([]WorkloadUse, error) {
	var sums strings.Builder
	for _, r := range amount.Resources() {
		fmt.Fprintf(&sums,
			", sum(%[1]s)::float8 AS %[1]s, max(%[1]s_peak) AS %[1]s_peak, coalesce(max(%[1]s_source) FILTER (WHERE %[1]s_source < %[2]d), %[2]d) AS %[1]s_source, (array_agg(%[1]s ORDER BY start DESC))[1] AS %[1]s_now", r, amount.Unavailable)
	}
	query := `SELECT w.*, h.name AS host_name, u.* FROM (
			SELECT workload_id` + sums.String() + `, coalesce((array_agg(threads ORDER BY start DESC))[1], 0) AS threads,
				coalesce((array_agg(processes ORDER BY start DESC))[1], 0) AS processes, coalesce(sum(runnable_ms), 0)::float8 AS runnable_ms,
				coalesce(max(runnable_peak), 0) AS runnable_peak, sum(elapsed_ms)::bigint AS elapsed_ms, (array_agg(elapsed_ms ORDER BY start DESC))[1] AS now_ms, min(start) AS used_from,
				max(start + elapsed_ms * interval '1 millisecond') AS used_to
			FROM usage_minute WHERE start >= $1 AND start < $2 AND ($3 = 0 OR host_id = $3) AND ($4::bigint[] IS NULL OR workload_id = ANY($4)) GROUP BY 1) AS u
		JOIN workloads w ON w.id = u.workload_id JOIN hosts h ON h.id = w.host_id ORDER BY u.cpu DESC, w.id`
	var uses []WorkloadUse
	return uses, s.db.WithContext(ctx).Raw(query, q.Span.From, q.Span.To, q.HostID, q.Only).Scan(&uses).Error
}
