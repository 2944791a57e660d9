package question_test

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/amount"
	"vinescale/core/question"
)

var noon = time.Date(2026, 10, 11, 12, 0, 0, 0, time.UTC)

func hour() question.Span { return question.Span{From: noon, To: noon.Add(time.Hour)} }

func TestSpan_HoldsItsBeginAndNotItsEnd(t *testing.T) {
	s := hour()
	for at, want := range map[time.Duration]bool{-1: false, 0: true, time.Hour - 1: true, time.Hour: false} {
		assert.Equal(t, want, s.Holds(noon.Add(at)), at)
	}
	assert.Equal(t, time.Hour, s.Length())
}

func TestScope_NilIsAllAndAnEmptyListIsNone(t *testing.T) {
	var s question.Scope
	assert.True(t, s.IsWhole())
	assert.True(t, s.HasHost(7) && s.HasTenant(0) && s.HasWorkload(9))
	s = question.Scope{Hosts: []int32{}, Tenants: []int32{}, Only: []int64{}}
	assert.False(t, s.HasHost(7) || s.HasTenant(0) || s.HasWorkload(9) || s.IsWhole())
	s = question.Scope{Hosts: []int32{7}, Only: []int64{9}}
	assert.True(t, s.HasHost(7) && s.HasWorkload(9) && s.HasTenant(3))
	assert.False(t, s.HasHost(8) || s.HasWorkload(8))
	assert.False(t, s.IsWhole())
	one := question.Scope{Sees: []int32{1}}
	assert.False(t, one.IsWhole(), "who sees some tenants only sees no residual")
}

func TestScope_WhoAsksSeesNoMoreThanTheirTenants(t *testing.T) {
	for _, c := range []struct{ sees, asked, want []int32 }{
		{nil, nil, nil}, {nil, []int32{1}, []int32{1}}, {[]int32{1, 2}, nil, []int32{1, 2}},
		{[]int32{1, 2}, []int32{2, 3}, []int32{2}}, {[]int32{1}, []int32{2}, []int32{}}, {[]int32{}, nil, []int32{}},
	} {
		s := question.Scope{Sees: c.sees, Tenants: c.asked}
		assert.Equal(t, c.want, s.Seen())
		for tenant := int32(0); tenant < 4; tenant++ {
			assert.Equal(t, c.want == nil || slices.Contains(c.want, tenant), s.HasTenant(tenant))
		}
	}
}

func TestDimension_IsAWordAFactOrALabel(t *testing.T) {
	for _, word := range question.Dimensions() {
		d, err := question.ParseDimension(word)
		require.NoError(t, err)
		assert.Empty(t, d.Label())
	}
	d, err := question.ParseDimension("label:coop.project")
	require.NoError(t, err)
	assert.Equal(t, "coop.project", d.Label())
	assert.Empty(t, d.Fact())
	assert.Equal(t, "namespace", question.Dimension("pod_namespace").Fact())
	assert.Empty(t, question.Tenant.Fact())
	for _, word := range []string{"", "label:", "label", "vintage", "cpu", "part"} {
		_, err := question.ParseDimension(word)
		assert.ErrorContains(t, err, "choose one of tenant, user", word)
	}
}

func TestPlan_ReadsTheSmallestBookThatTellsTheGroupsApart(t *testing.T) {
	cpu, beside := []amount.Measure{amount.CPU}, []amount.Measure{amount.CPUUser}
	odd := question.Scope{Span: question.Span{From: noon.Add(time.Second), To: noon.Add(time.Hour)}}
	late := question.Scope{Span: question.Span{From: noon, To: noon.Add(time.Hour + time.Second)}}
	some := question.Scope{Span: hour(), Only: []int64{1}}
	type dims = []question.Dimension
	for _, c := range []struct {
		q    question.Question
		want string
	}{
		{question.Question{Measures: cpu, By: dims{question.Tenant}}, "tenant minutes"},
		{question.Question{Measures: cpu, By: dims{question.Tenant}, Scope: odd}, "workload minutes"},
		{question.Question{Measures: cpu, By: dims{question.Tenant}, Scope: late}, "workload minutes"},
		{question.Question{Measures: cpu, By: dims{question.Tenant}, Scope: some}, "workload minutes"},
		{question.Question{Measures: cpu, By: dims{question.Tenant}, Step: time.Hour}, "workload minutes"},
		{question.Question{Measures: cpu, By: dims{question.Tenant}, State: true}, "workload minutes"},
		{question.Question{Measures: cpu, By: dims{question.Tenant, question.Host}}, "workload minutes"},
		{question.Question{Measures: cpu}, "workload minutes"},
		{question.Question{Measures: cpu, By: dims{question.Workload}}, "workload minutes"},
		{question.Question{Measures: cpu, By: dims{question.Program}}, "program minutes"},
		{question.Question{Measures: cpu, By: dims{question.Family, question.Tenant}}, "program minutes"},
		{question.Question{Measures: cpu, By: dims{question.CPU, question.Workload}}, "CPU minutes"},
		{question.Question{Measures: cpu, By: dims{question.Part}}, "part minutes"},
		{question.Question{Measures: beside, By: dims{question.Tenant}}, "messages"},
	} {
		if c.q.Scope.Span.From.IsZero() {
			c.q.Scope.Span = hour()
		}
		p, err := question.PlanFor(c.q)
		require.NoError(t, err)
		require.Len(t, p.Reads, 1)
		assert.Equal(t, c.want, p.Reads[0].Book.String(), "%+v", c.q)
	}
	p, err := question.PlanFor(question.Question{By: dims{question.Kind}, Scope: some,
		Measures: []amount.Measure{amount.Disk, amount.CPUUser, amount.CPU, amount.DiskReads}})
	require.NoError(t, err)
	assert.Equal(t, []question.Read{
		{Book: question.WorkloadMinutes, Measures: []amount.Measure{amount.Disk, amount.CPU}, At: []int{0, 2}},
		{Book: question.Messages, Measures: []amount.Measure{amount.CPUUser, amount.DiskReads}, At: []int{1, 3}},
	}, p.Reads)
	for why, q := range map[string]question.Question{
		"nothing was asked for":       {},
		"counted for whole workloads": {Measures: beside, By: dims{question.Program}},
		"told by CPU and by part":     {Measures: []amount.Measure{amount.Memory}, By: dims{question.CPU}},
	} {
		_, err := question.PlanFor(q)
		assert.ErrorContains(t, err, why)
	}
	_, err = question.PlanFor(question.Question{Measures: beside, By: dims{question.Part}})
	assert.Error(t, err)
	_, err = question.PlanFor(question.Question{Measures: []amount.Measure{amount.Disk}, By: dims{question.Part}})
	assert.Error(t, err)
}

// rows are named by a letter each, with so many units.
func rows(units ...float64) []question.Row {
	var list []question.Row
	for i, u := range units {
		name := string(rune('a' + i))
		list = append(list, question.Row{Name: name, Tenant: int32(i), Parts: 10 - i, Workload: int64(i),
			Names: question.Names{Kind: "k" + name, Owner: "o" + name, Tenant: "t" + name, Host: "h" + name},
			Sums:  []question.Sum{{Units: u, Peak: 5 - u, Source: amount.Source(i % 4)}}})
	}
	return list
}

func names(a *question.Answer) (s string) {
	for _, r := range a.Rows {
		s += r.Name
	}
	return s
}

func TestArrange_SortsAndCutsPages(t *testing.T) {
	list := rows(3, 1, 4, 1)
	list = append(list, question.Row{Name: "z", Sums: []question.Sum{question.NoFigure(2)}, Parts: 1, Tenant: 9})
	for by, want := range map[string]string{
		"amount": "cabdz", "-amount": "zbdac", "name": "abcdz", "-name": "zdcba", "kind": "zabcd", "-owner": "dcbaz",
		"tenant": "zabcd", "host": "zabcd", "parts": "abcdz", "-parts": "zdcba", "peak": "bdacz", "source": "adcbz",
		"": "cabdz",
	} {
		order, err := question.ParseOrder(by)
		require.NoError(t, err)
		q := question.Question{Measures: []amount.Measure{amount.CPU}, Order: order}
		whole := q.Arrange(slices.Clone(list))
		assert.Equal(t, want, names(whole), by)
		assert.Equal(t, question.Total{Rows: 5, Units: []float64{9}}, whole.Total)
		assert.Nil(t, whole.Next)
		got := ""
		q.Page.First = 2
		for range 4 {
			page := q.Arrange(slices.Clone(list))
			got += names(page)
			assert.Equal(t, whole.Total, page.Total)
			if page.Next == nil {
				break
			}
			assert.Len(t, page.Rows, 2)
			after, err := question.ParseKey(page.Next.String())
			require.NoError(t, err)
			q.Page.After = after
		}
		assert.Equal(t, want, got, "%s, by pages", by)
	}
	q := question.Question{By: []question.Dimension{question.Tenant}, Measures: []amount.Measure{amount.CPU}}
	assert.Equal(t, "acbd", names(q.Arrange(rows(0, 1, 4, 1))), "what is unassigned comes first")
	q.By = append(q.By, question.Host)
	assert.Equal(t, "cbda", names(q.Arrange(rows(0, 1, 4, 1))), "but not among other groups")
	q.Page.First = 4
	assert.Nil(t, q.Arrange(rows(0, 1, 4, 1)).Next, "a page that holds the last row is the last")
	_, err := question.ParseOrder("size")
	assert.ErrorContains(t, err, "choose one of amount, name")
	for _, cursor := range []string{"grapes!", "Z3JhcGVz"} {
		_, err = question.ParseKey(cursor)
		assert.ErrorIs(t, err, question.ErrCursor, cursor)
	}
	none, err := question.ParseKey("")
	require.NoError(t, err)
	assert.Empty(t, none.String())
}

func TestKey_TellsEveryGroupFromAllOthers(t *testing.T) {
	q := question.Question{Measures: []amount.Measure{amount.CPU}}
	seen := map[question.Key]bool{}
	for _, r := range []question.Row{{}, {Name: "x"}, {Family: "x"}, {Workload: 1}, {Tenant: 1}, {Host: 1}, {CPU: 1},
		{Names: question.Names{Kind: "x"}}, {Names: question.Names{Owner: "x"}}, {Names: question.Names{Tenant: "x"}},
		{Names: question.Names{Host: "x"}}, {Names: question.Names{Workload: "x"}}} {
		r.Sums = []question.Sum{{}}
		k := q.KeyOf(&r)
		assert.False(t, seen[k], "%+v", r)
		seen[k] = true
	}
}

func TestQuestion_StepsBeginAtWholeMultiples(t *testing.T) {
	q := question.Question{Step: 7 * time.Minute}
	for _, at := range []time.Time{noon, noon.Add(time.Microsecond), noon.Add(7*time.Minute - time.Microsecond),
		time.Unix(-1, 0)} {
		s := q.Stretch(at)
		assert.Zero(t, s.Unix()%420)
		assert.False(t, s.After(at))
		assert.Less(t, at.Sub(s), q.Step)
	}
	q.Step = 0
	assert.True(t, q.Stretch(noon).IsZero())
}

func TestSum_JoinsAsItsWeakestPartAllows(t *testing.T) {
	counted := question.Sum{Units: 5, Source: amount.Counted, Missing: 1}
	split := question.Sum{Units: 2, Source: amount.Split, Untold: 1}
	none := question.NoFigure(3)
	s := counted
	s.Join(&split)
	assert.Equal(t, question.Sum{Units: 7, Source: amount.Split, Missing: 1, Untold: 1}, s)
	s.Join(&none)
	assert.Equal(t, question.Sum{Units: 7, Source: amount.Split, Missing: 4, Untold: 4}, s)
	none.Join(&counted)
	assert.Equal(t, question.Sum{Units: 5, Source: amount.Counted, Missing: 4, Untold: 3}, none)
	assert.False(t, (&question.Sum{Source: amount.Unavailable}).Known())
}

func TestLines_TheResidualIsWhatNobodyIsChargedWith(t *testing.T) {
	l := question.Lines{Used: question.Line{Units: 100}, Kernel: question.Line{Units: 7},
		Steal: question.Line{Units: 2}}
	assert.Equal(t, question.Line{Units: 1}, l.Residual(90))
	assert.Equal(t, question.Line{Units: -9}, l.Residual(100), "it is signed")
	l.Used = question.Line{Reason: "no counter"}
	assert.Equal(t, question.Line{Reason: "no counter"}, l.Residual(90))
	var order []string
	for _, x := range l.Each() {
		order = append(order, x.Name)
	}
	assert.Equal(t, []string{"capacity", "used", "idle", "kernel", "steal"}, order)
	l.Each()[3].Line.Units = 8
	assert.Equal(t, 8.0, l.Kernel.Units)
}

// Who used CPU time on two hosts over an hour, by the tenant of the time? The sums by tenant and minute answer that.
func ExamplePlanFor() {
	noon := time.Date(2026, 10, 11, 12, 0, 0, 0, time.UTC)
	q := question.Question{
		Scope:    question.Scope{Span: question.Span{From: noon, To: noon.Add(time.Hour)}, Hosts: []int32{3, 5}},
		Measures: []amount.Measure{amount.CPU},
		By:       []question.Dimension{question.Tenant},
	}
	plan, _ := question.PlanFor(q)
	fmt.Println("read", plan.Reads[0].Book)

	q.Measures = append(q.Measures, amount.CPUThrottled) // which has no ledger
	plan, _ = question.PlanFor(q)
	for _, r := range plan.Reads {
		fmt.Println("read", r.Book, "for", r.Measures)
	}
	// Output:
	// read tenant minutes
	// read tenant minutes for [cpu]
	// read messages for [cpu_throttled_us]
}
