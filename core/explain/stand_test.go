package explain_test

import (
	"math"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/core/question"
	"vinescale/core/tenancy"
)

// minuteOf is a minute in which a tenant used so many cores.
func minuteOf(minute int, tenant int32, cores float64) explain.Cell {
	c := explain.Cell{Start: epoch.Add(time.Duration(minute) * time.Minute), Tenant: tenant, Minutes: 1}
	c.Sum[amount.CPU] = cores * 60e6
	c.Most, c.Least = c.Sum, c.Sum
	return c
}

// hourOf is an hour with its highest and lowest minute, and its mean, in cores.
func hourOf(hour int, tenant int32, most, least, mean float64) explain.Cell {
	c := explain.Cell{Start: epoch.Add(time.Duration(hour) * time.Hour), Tenant: tenant, Minutes: 60}
	c.Most[amount.CPU], c.Least[amount.CPU], c.Sum[amount.CPU] = most*60e6, least*60e6, mean*3600e6
	return c
}

func cpuQuota(tenants []int32, changes ...tenancy.LimitChange) *explain.Quota {
	return &explain.Quota{Tenant: "red", Tenants: tenants, Name: "cpu", Changes: changes}
}

func limitFrom(minute int, ceiling, soft float64) tenancy.LimitChange {
	c := tenancy.LimitChange{From: epoch.Add(time.Duration(minute) * time.Minute)}
	if ceiling > 0 {
		c.Limit.Ceiling = &ceiling
	}
	if soft > 0 {
		c.Limit.Soft = &soft
	}
	return c
}

func cpuSum(coreMinutes float64) *question.Sum {
	return &question.Sum{Units: coreMinutes * 60e6, Source: amount.Counted}
}

func at(minute int) time.Time { return epoch.Add(time.Duration(minute) * time.Minute) }

func TestStand_CountsTheMinutesAboveWhatWasInForce(t *testing.T) {
	// Four were allowed until the sixth minute, six from then on. Tenant 2 is a part of 1; what 3 does is its own.
	q := cpuQuota([]int32{1, 2}, limitFrom(-60, 4, 3), limitFrom(6, 6, 0))
	cells := explain.NewCells([]explain.Cell{
		minuteOf(0, 1, 3), minuteOf(0, 2, 1), // just at the ceiling is not above it
		minuteOf(1, 1, 3), minuteOf(1, 2, 1.5), minuteOf(1, 3, 9),
		minuteOf(2, 1, 5),
		minuteOf(3, 3, 9), // nothing
		minuteOf(4, 1, 7),
		minuteOf(6, 1, 5), // the fifth minute was not recorded; five are fewer than six now
		minuteOf(7, 2, 6.5),
	})
	s := explain.StandAgainst(q, at(0), at(8), cpuSum(32), 8*60_000, cells)
	s.Judge(nil, nil, 0)
	assert.Equal(t, []any{4.0, 6.0, 2.0, false}, []any{*s.Used, *s.Ceiling, *s.Headroom, s.Over})
	e := s.Exceeded
	assert.Equal(t, []any{4, 3, 0, at(1), at(8)}, []any{e.Minutes, e.Times, e.Unsure, *e.First, *e.Last})
	assert.Equal(t, []explain.Stretched{{From: at(1), To: at(3), Most: 5}, {From: at(4), To: at(5), Most: 7},
		{From: at(7), To: at(8), Most: 6.5}}, e.Longest)
	assert.Equal(t, []any{7.0, 7.0, "minute"}, []any{*s.Peak, *s.P95, s.P95Of})
	require.Len(t, s.Trend, 7)
	assert.Equal(t, []explain.Moment{{At: at(0), Mean: 4}, {At: at(1), Mean: 4.5}}, s.Trend[:2])
	assert.Equal(t, explain.Moment{At: at(3)}, s.Trend[3], "nothing is a figure")
}

func TestStand_KnowsMostHoursWithoutTheirMinutes(t *testing.T) {
	q := cpuQuota([]int32{1, 2}, limitFrom(-60, 4, 0))
	hours := []explain.Cell{
		hourOf(0, 1, 4, 1, 2), hourOf(0, 3, 9, 9, 9), // at most four: none above
		hourOf(1, 1, 6, 4.1, 5),                      // all above
		hourOf(2, 1, 3, 1, 2), hourOf(2, 2, 2, 0, 1), // five at most together, one at least: that takes the minutes
		hourOf(30, 1, 9, 0, 1), // of these none are kept
	}
	cells := explain.NewCells(hours)
	assert.Equal(t, []time.Time{at(120), at(30 * 60)}, q.Unsure(cells, at(0), at(48*60)))
	one, two := slices.Repeat([]float64{math.NaN()}, 60), slices.Repeat([]float64{math.NaN()}, 60)
	one[1], two[1], one[2], two[2] = 3*60e6, 2*60e6, 3*60e6, 0
	cells.Refine(amount.CPU, []explain.HourMinutes{{Hour: at(120), Tenant: 1, Units: one},
		{Hour: at(120), Tenant: 2, Units: two}})
	s := explain.StandAgainst(q, at(0), at(48*60), cpuSum(1), 48*3600_000, cells)
	assert.Equal(t, []any{61, 2, 60}, []any{s.Exceeded.Minutes, s.Exceeded.Times, s.Exceeded.Unsure})
	assert.Equal(t, []any{9.0, 5.0, "hour"}, []any{*s.Peak, *s.P95, s.P95Of})
	assert.Empty(t, cpuQuota([]int32{1}).Unsure(cells, at(0), at(60)), "without a quota nothing is above it")
	changing := cpuQuota([]int32{1}, limitFrom(-60, 40, 0), limitFrom(30, 50, 0))
	assert.Equal(t, []time.Time{at(0)}, changing.Unsure(explain.NewCells(hours), at(0), at(600)),
		"an hour in which it changes takes its minutes")
}

func TestStand_JustAtAMarkIsNotAboveIt(t *testing.T) {
	q := cpuQuota([]int32{1}, limitFrom(-60, 4, 3))
	hours := explain.NewCells(
		[]explain.Cell{hourOf(0, 1, 5, 4, 4.5), hourOf(1, 1, 4, 3, 3.5), hourOf(2, 1, 5, 4.1, 4.5)},
	)
	assert.Equal(t, []time.Time{at(0)}, q.Unsure(hours, at(0), at(180)), "a minute that is just at it is not above it")
	for used, want := range map[float64][2]bool{3: {}, 3.5: {true, false}, 4: {true, false}, 4.5: {true, true}} {
		s := explain.StandAgainst(q, at(0), at(10), cpuSum(10*used), 600_000, explain.NewCells(nil))
		s.Judge(nil, nil, 0)
		assert.Equal(t, want, [2]bool{s.SoftOver, s.Over}, "%g cores of 4, marked at 3", used)
	}
	s := explain.StandAgainst(cpuQuota([]int32{1}, limitFrom(-60, 4, 0)), at(0), at(10), cpuSum(99), 600_000,
		explain.NewCells(nil))
	s.Judge(nil, nil, 0)
	assert.False(t, s.SoftOver, "without a soft mark nothing is above it")
}

// TestStand_P95IsOfHoursInALongSpan: hours that are known by their minutes count once each.
func TestStand_P95IsOfHoursInALongSpan(t *testing.T) {
	q := cpuQuota([]int32{1}, limitFrom(-60, 40, 0))
	var list []explain.Cell
	for hour := range 20 {
		list = append(list, hourOf(hour, 1, float64(hour+2), float64(hour), float64(hour+1)))
	}
	cells := explain.NewCells(list)
	fine := make([]float64, 60) // of the eighteenth hour, whose mean is 18
	for minute := range fine {
		fine[minute] = float64(36*(minute%2)) * 60e6
	}
	cells.Refine(amount.CPU, []explain.HourMinutes{{Hour: at(17 * 60), Tenant: 1, Units: fine}})
	s := explain.StandAgainst(q, at(0), at(48*60), cpuSum(1), 48*3600_000, cells)
	assert.Equal(t, []any{19.0, "hour", 36.0}, []any{*s.P95, s.P95Of, *s.Peak}, "19 of 20 hours are no higher")
	day := explain.NewCells([]explain.Cell{minuteOf(0, 1, 3), minuteOf(1, 1, 5)})
	s = explain.StandAgainst(q, at(0), at(24*60), cpuSum(1), 24*3600_000, day)
	assert.Equal(t, []any{5.0, "minute"}, []any{*s.P95, s.P95Of}, "a day is told by the minute")
}

func TestStand_HoldsItsBasisAgainstTheCeiling(t *testing.T) {
	held := map[int32][]explain.HeldUse{
		1: {{Part: 1, Entitled: map[string]float64{"cpu": 4}, Used: map[string]float64{"cpu": 1}},
			{Part: 0.5, Entitled: map[string]float64{"cpu": 2}, Used: map[string]float64{"cpu": 1.5}}},
		2: {{Part: 1, Entitled: map[string]float64{}, Used: map[string]float64{"cpu": 3}}},
		3: {{Part: 1, Entitled: map[string]float64{"cpu": 99}}},
	}
	for basis, want := range map[tenancy.Basis][2]float64{tenancy.Used: {5.5, 1.5}, tenancy.Held: {5, 2},
		tenancy.Greater: {8.5, -1.5}} {
		change := limitFrom(-1, 7, 0)
		change.Limit.Basis = basis
		s := explain.StandAgainst(cpuQuota([]int32{1, 2}, change), at(0), at(10), cpuSum(55), 600_000,
			explain.NewCells(nil))
		h, g, n := explain.SumHeld(held, []int32{1, 2}, amount.CPU)
		s.Judge(h, g, n)
		assert.Equal(
			t,
			[]any{want[0], want[1], want[1] < 0, 1},
			[]any{*s.Against, *s.Headroom, s.Over, s.Unheld},
			basis,
		)
	}
	h, g, _ := explain.SumHeld(held, []int32{1}, amount.Disk)
	assert.Nil(t, h)
	assert.Nil(t, g, "nothing is held of disks")
}

func TestStand_OfWhatIsNotKnownSaysWhy(t *testing.T) {
	q := cpuQuota([]int32{1}, limitFrom(-1, 7, 0))
	s := explain.StandAgainst(q, at(0), at(10), cpuSum(1), 0, explain.NewCells(nil))
	s.Judge(nil, nil, 0)
	assert.Nil(t, s.Used)
	assert.Nil(t, s.Headroom)
	assert.Equal(t, "nothing was recorded in this span", s.Reason)
	s = explain.StandAgainst(q, at(0), at(10), &question.Sum{Source: amount.Unavailable, Missing: 2}, 600_000,
		explain.NewCells(nil))
	assert.Nil(t, s.Used)
	assert.NotEmpty(t, s.Reason)
}

// facts puts names and values together.
func facts(words ...string) map[string]string {
	of := map[string]string{}
	for i := 0; i < len(words); i += 2 {
		of[words[i]] = words[i+1]
	}
	return of
}

func TestEntitled_IsWhatIsTheWorkloadsOwn(t *testing.T) {
	for name, c := range map[string]struct {
		kind  amount.Kind
		facts map[string]string
		cpus  string
		want  map[string]float64
	}{
		"nothing limits it":            {amount.Container, facts(), "0-7", map[string]float64{}},
		"a set of CPUs that is shared": {amount.Container, facts(), "0-3", map[string]float64{}},
		"a limit": {amount.Container, facts("cpu_limit_cores", "1.5"), "0-7",
			map[string]float64{"cpu": 1.5}},
		"a limit above its set": {amount.Container, facts("cpu_limit_cores", "6"), "0-3",
			map[string]float64{"cpu": 4}},
		"a limit that is the whole host": {amount.Container,
			facts("cpu_limit_cores", "8", "memory_limit_bytes", "1000"), "0-7", map[string]float64{}},
		"a limit above the whole host": {amount.Container,
			facts("cpu_limit_cores", "90", "memory_limit_bytes", "9000"), "0-7", map[string]float64{}},
		"what a job asked for": {amount.Job, facts("cpus_asked", "3", "memory_asked_bytes", "500", "gpus", "1-2"),
			"0-7", map[string]float64{"cpu": 3, "memory": 500, "gpu": 2}},
		"all that a job could ask for": {amount.Job, facts("cpus_asked", "8"), "0-7", map[string]float64{"cpu": 8}},
		"virtual CPUs": {amount.VM, facts("cpus_asked", "4", "memory_limit_bytes", "700", "memory_asked_bytes", "600"),
			"0-7", map[string]float64{"cpu": 4, "memory": 600}},
	} {
		w := account.Workload{Kind: c.kind, Facts: c.facts, Allowed: c.cpus}
		h := explain.HeldBy(&w, 8)
		assert.Equal(t, c.want, h.Entitled(c.kind, 8, 1000), name)
	}
}

func TestHurt_IsWhoWaitedWhereTheTenantWas(t *testing.T) {
	user := func(workload int64, tenant int32) explain.User {
		return explain.User{Workload: workload, Tenant: tenant}
	}
	look := func(from, to int, rows ...explain.Waiting) explain.Looked {
		return explain.Looked{Stretched: explain.Stretched{From: at(from), To: at(to)}, Rows: rows}
	}
	row := func(host int32, u explain.User, used, waited float64) explain.Waiting {
		return explain.Waiting{Host: host, User: u, Used: used * 1e6, Waited: waited * 1e6}
	}
	stalled := func(host int32, u explain.User, waited float64) explain.Waiting {
		return explain.Waiting{Host: host, User: u, Used: 1e6, Waited: waited * 1e6, IsStall: true}
	}
	names := func(u explain.User) explain.UserRef {
		return explain.UserRef{WorkloadRef: explain.WorkloadRef{ID: u.Workload}}
	}
	looked := []explain.Looked{
		look(0, 1, row(1, user(10, 1), 50, 30), row(1, user(11, 2), 90, 5), row(1, user(12, 5), 9, 0.5),
			row(2, user(13, 5), 10, 90), row(1, user(15, 5), 0.1, 0.9), stalled(1, user(16, 5), 5)),
		look(4, 5, row(1, user(10, 1), 50, 30), row(1, user(12, 5), 8, 1.5), row(1, user(14, 5), 91, 10),
			stalled(1, user(16, 5), 8)),
	}
	judge := func(name string) []explain.Hurt {
		s := &explain.Stand{Exceeded: &explain.Exceeded{}}
		q := &explain.Quota{Name: name, Tenants: []int32{1, 2}}
		s.JudgeHurt(q, looked, map[int32]string{1: "cellar-1", 2: "press-1"}, names)
		return s.Hurt
	}
	// 10 and 11 are the tenant's; 13 waited on a host where the tenant was not; 14 for less than a tenth; 15 for too
	// short a time; of 16 it is known that some thread waited for 13 of 120 seconds.
	got := judge("cpu")
	require.Len(t, got, 2)
	assert.Equal(t, []any{int64(16), "cellar-1", 13.0, 13.0 / 120}, []any{got[0].ID, got[0].Host, got[0].Waited,
		got[0].Part})
	assert.Equal(t, []any{int64(12), 2.0, 2.0 / 19}, []any{got[1].ID, got[1].Waited, got[1].Part})
	assert.Empty(t, judge("energy"), "nobody tells of waiting for that")
}

// TestStand_Adds: headroom and what is held against it make the ceiling; parts make the whole; a quota changes no use.
func TestStand_Adds(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var cells []explain.Cell
		sums := map[int32]float64{}
		for minute := range 20 {
			for tenant := int32(1); tenant <= 3; tenant++ {
				cores := float64(rapid.IntRange(0, 8).Draw(t, "cores"))
				cells = append(cells, minuteOf(minute, tenant, cores))
				sums[tenant] += cores
			}
		}
		ceiling := float64(rapid.IntRange(1, 20).Draw(t, "ceiling"))
		stand := func(ceiling float64, tenants ...int32) *explain.Stand {
			sum := 0.0
			for _, x := range tenants {
				sum += sums[x]
			}
			s := explain.StandAgainst(cpuQuota(tenants, limitFrom(-1, ceiling, 0)), at(0), at(20), cpuSum(sum),
				20*60_000, explain.NewCells(cells))
			s.Judge(nil, nil, 0)
			return s
		}
		whole := stand(ceiling, 1, 2, 3)
		require.InDelta(t, ceiling, *whole.Headroom+*whole.Against, 1e-9)
		require.InDelta(t, *whole.Used, *stand(ceiling, 1).Used+*stand(ceiling, 2, 3).Used, 1e-9)
		other := stand(ceiling+1, 1, 2, 3)
		require.Equal(t, *whole.Used, *other.Used)
		require.Equal(t, whole.Trend, other.Trend)
		require.GreaterOrEqual(t, whole.Exceeded.Minutes, other.Exceeded.Minutes)
		above := 0
		for minute := range 20 {
			if cells[3*minute].Sum[0]+cells[3*minute+1].Sum[0]+cells[3*minute+2].Sum[0] > ceiling*60e6 {
				above++
			}
		}
		require.Equal(t, above, whole.Exceeded.Minutes)
		require.GreaterOrEqual(t, *whole.Peak, *whole.P95)
	})
}

func TestUnused_IsWhatIsHeldAndNotUsed(t *testing.T) {
	const gib = 1 << 30
	holding := func(workload int64, tenant int32, kind amount.Kind, of, most map[string]float64) explain.Holding {
		h := explain.Holding{
			User:  explain.User{Workload: workload, Tenant: tenant},
			Host:  "press-1",
			Kind:  kind,
			Of:    of,
			Most:  most,
			Mean:  map[string]float64{},
			IsGPU: true,
		}
		if kind == amount.Container {
			limit := of["cpu"]
			h.Held.CPULimit = &limit
		}
		return h
	}
	asleep := holding(5, 1, amount.Session, nil, nil)
	asleep.Mean["memory"], asleep.Rest = 28*gib, &explain.Rest{Slept: 9 * time.Hour}
	awake := holding(6, 1, amount.Session, nil, nil)
	awake.Mean["memory"] = 28 * gib
	holdings := []explain.Holding{
		holding(1, 1, amount.Container, map[string]float64{"cpu": 8, "memory": 4 * gib},
			map[string]float64{"cpu": 0.25, "memory": 2.1 * gib}), // more than half of the memory was used
		holding(
			2,
			1,
			amount.Job,
			map[string]float64{"cpu": 3, "gpu": 2},
			map[string]float64{"cpu": 1.5, "gpu": 0.5},
		),
		holding(3, 2, amount.Job, map[string]float64{"cpu": 1, "memory": 8 * gib},
			map[string]float64{"cpu": 0.6, "memory": 4 * gib}),
		holding(4, 2, amount.Container, map[string]float64{"cpu": 9}, nil), // what it had is not known
		asleep, awake,
	}
	pins := []explain.PinAudit{
		{Host: "cellar-1", Kind: explain.HolderTenant, Holder: "t2", Exclusive: true,
			Verdicts: []explain.PinFault{{Verdict: "idle", CPUs: "4-6", Sentence: "Idle."}}},
		{Host: "cellar-1", Kind: explain.HolderTenant, Holder: "t2",
			Verdicts: []explain.PinFault{{Verdict: "idle", CPUs: "8-9"}}}, // others may use them
	}
	u := explain.FindUnused(explain.Over{}, holdings, pins, func(u explain.User) explain.UserRef {
		return explain.UserRef{
			WorkloadRef: explain.WorkloadRef{ID: u.Workload},
			Tenant:      []string{"", "t1", "t2"}[u.Tenant],
		}
	})
	require.Len(t, u.Tenants, 2)
	one, two := u.Tenants[0], u.Tenants[1]
	assert.Equal(t, []float64{7.75 + 1.5, 28 * gib, 2}, []float64{one.Cores, one.Bytes, one.GPUs})
	assert.Equal(t, []float64{3, 4 * gib, 0}, []float64{two.Cores, two.Bytes, two.GPUs})
	var lines []string
	for _, x := range append(one.Lines, two.Lines...) {
		lines = append(lines, x.Resource+" "+x.Why+": "+x.Sentence)
	}
	assert.Equal(t, []string{
		"cpu limit: It is limited to 8 cores and had at most 0.25 cores.",
		"cpu asked: It asked for 3 cores and had at most 1.5 cores.",
		"gpu gpu: It has 2 GPUs allotted () and did next to nothing with them.",
		"memory asleep: It has done next to nothing for 9 h 0 min, and has 28 GiB.",
		"cpu pin: Idle.",
		"memory asked: It asked for 8 GiB and had at most 4 GiB.",
	}, lines)
}

func TestPromises_AreHeldAgainstWhatThereIs(t *testing.T) {
	cpu, memory := amount.CPU, amount.Memory
	scopes := []explain.PromiseScope{
		{Scope: tenancy.Scope{Kind: tenancy.Fleet}, Hosts: map[int32]bool{1: true, 2: true},
			Capacity: map[amount.Resource]float64{cpu: 12, memory: 100, amount.Disk: 5},
			Quotas:   map[amount.Resource]float64{cpu: 12}},
		{Scope: tenancy.Scope{Kind: tenancy.OneHost, Name: "press-1"}, Hosts: map[int32]bool{2: true},
			Capacity: map[amount.Resource]float64{cpu: 4}, Quotas: map[amount.Resource]float64{cpu: 4.5}},
	}
	held := map[int32][]explain.HeldUse{
		1: {{Host: 1, Part: 1, Entitled: map[string]float64{"cpu": 3, "memory": 101}}},
		0: {{Host: 2, Part: 0.5, Entitled: map[string]float64{"cpu": 4}}},
	}
	type line struct {
		on, resource           string
		capacity, quotas, held float64
		isOver                 bool
	}
	var lines []line
	for _, p := range explain.AddPromises(scopes, held) {
		x := line{p.On, p.Resource, p.Capacity, -1, p.Held, p.IsOver}
		if p.Quotas != nil {
			x.quotas = *p.Quotas
		}
		lines = append(lines, x)
	}
	assert.Equal(t, []line{
		{"", "cpu", 12, 12, 5, false}, // as much as there is is not too much
		{"", "memory", 100, -1, 101, true},
		{"press-1", "cpu", 4, 4.5, 2, true},
	}, lines)
}
