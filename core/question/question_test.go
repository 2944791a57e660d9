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

func TestPlan_DividesUsageAsFinelyAsTheGroupsNeed(t *testing.T) {
	cpu, beside := []amount.Measure{amount.CPU}, []amount.Measure{amount.CPUUser}
	odd := question.Scope{Span: question.Span{From: noon.Add(time.Second), To: noon.Add(time.Hour)}}
	late := question.Scope{Span: question.Span{From: noon, To: noon.Add(time.Hour + time.Second)}}
	some := question.Scope{Span: hour(), Only: []int64{1}}
	type dims = []question.Dimension
	for _, c := range []struct {
		q     question.Question
		want  question.Division
		peaks bool
	}{
		{question.Question{Measures: cpu, By: dims{question.Tenant}}, question.ByWorkload, true},
		{question.Question{Measures: cpu, By: dims{question.Tenant}, Scope: odd}, question.ByWorkload, false},
		{question.Question{Measures: cpu, By: dims{question.Tenant}, Scope: late}, question.ByWorkload, false},
		{question.Question{Measures: cpu, By: dims{question.Tenant}, Scope: some}, question.ByWorkload, false},
		{question.Question{Measures: cpu, By: dims{question.Tenant}, Step: time.Hour}, question.ByWorkload, false},
		{question.Question{Measures: cpu, By: dims{question.Tenant}, State: true}, question.ByWorkload, false},
		{question.Question{Measures: cpu, By: dims{question.Tenant, question.Host}}, question.ByWorkload, false},
		{question.Question{Measures: cpu}, question.ByWorkload, false},
		{question.Question{Measures: cpu, By: dims{question.Workload}}, question.ByWorkload, false},
		{question.Question{Measures: cpu, By: dims{question.Program}}, question.ByProgram, false},
		{question.Question{Measures: cpu, By: dims{question.Family, question.Tenant}}, question.ByProgram, false},
		{question.Question{Measures: cpu, By: dims{question.CPU, question.Workload}}, question.ByCPU, false},
		{question.Question{Measures: cpu, By: dims{question.Part}}, question.ByPart, false},
		{question.Question{Measures: beside, By: dims{question.Tenant}}, question.ByWorkload, true},
	} {
		if c.q.Scope.Span.From.IsZero() {
			c.q.Scope.Span = hour()
		}
		p, err := question.PlanFor(c.q)
		require.NoError(t, err)
		assert.Equal(t, c.want, p.Division, "%+v", c.q)
		assert.Equal(t, c.peaks, p.Peaks, "%+v", c.q)
	}
	for why, q := range map[string]question.Question{
		"nothing was asked for":       {},
		"counted for whole workloads": {Measures: beside, By: dims{question.Program}},
		"told by CPU and by part":     {Measures: []amount.Measure{amount.Memory}, By: dims{question.CPU}},
	} {
		_, err := question.PlanFor(q)
		assert.ErrorContains(t, err, why)
	}
	_, err := question.PlanFor(question.Question{Measures: beside, By: dims{question.Part}})
	assert.Error(t, err)
	_, err = question.PlanFor(question.Question{Measures: []amount.Measure{amount.Disk}, By: dims{question.Part}})
	assert.Error(t, err)
}

func TestReading_TakesTheCoarsestSumsThatAreExact(t *testing.T) {
	at := func(text string) time.Time {
		when, err := time.Parse("02 15:04:05", text)
		require.NoError(t, err)
		return when.AddDate(2026, 9, 0)
	}
	for _, c := range []struct {
		from, to    string
		step        time.Duration
		days, hours string // what they hold; "" for none
	}{
		{"05 00:00:00", "07 00:00:00", 0, "05 00:00:00 07 00:00:00", "05 00:00:00 07 00:00:00"},
		{"05 00:00:01", "07 23:59:59", 0, "06 00:00:00 07 00:00:00", "05 01:00:00 07 23:00:00"},
		{"05 12:00:00", "06 12:30:00", 0, "", "05 12:00:00 06 12:00:00"},
		{"05 12:00:00", "05 12:59:59", 0, "", ""},
		{"05 12:30:00", "05 13:30:00", 0, "", ""},
		{"05 12:30:00", "05 14:30:00", 0, "", "05 13:00:00 05 14:00:00"},
		{"05 00:00:00", "07 00:00:00", 48 * time.Hour, "05 00:00:00 07 00:00:00", "05 00:00:00 07 00:00:00"},
		{"05 00:00:00", "07 00:00:00", 6 * time.Hour, "", "05 00:00:00 07 00:00:00"},
		{"05 00:00:00", "07 00:00:00", 90 * time.Minute, "", ""},
		{"05 00:00:00", "07 00:00:00", time.Minute, "", ""},
	} {
		span := question.Span{From: at(c.from), To: at(c.to)}
		r := question.ReadingOf(span, c.step)
		told := func(s question.Span) string {
			if !s.From.Before(s.To) {
				return ""
			}
			return s.From.Format("02 15:04:05 ") + s.To.Format("02 15:04:05")
		}
		assert.Equal(t, []string{c.days, c.hours}, []string{told(r.Days), told(r.Hours)}, "%+v", c)
		assert.Equal(t, span, r.Span)
	}
	r := question.ReadingOf(question.Span{From: at("05 12:30:00"), To: at("07 01:00:00")}, 0)
	for _, c := range []struct {
		grain question.Grain
		start string
		want  bool
	}{{question.ByHour, "05 12:00:00", false}, {question.ByHour, "05 13:00:00", true},
		{question.ByHour, "07 01:00:00", false}, {question.ByDay, "05 00:00:00", false},
		{question.ByDay, "06 00:00:00", true}, {question.ByDay, "07 00:00:00", false},
		{question.ByInterval, "01 00:00:00", true}} {
		assert.Equal(t, c.want, r.IsWithin(c.grain, at(c.start)), "%+v", c)
	}
	assert.Empty(t, question.PastKeeping(question.ByInterval))
	assert.Contains(t, question.PastKeeping(question.ByDay), "every day that begins in it")
	assert.Equal(t, []string{"interval", "hour", "day"}, []string{question.ByInterval.String(),
		question.ByHour.String(), question.ByDay.String()})
	assert.Equal(t, noon.Add(time.Second), question.ByInterval.Floor(noon.Add(time.Second)))
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

func TestArrange_StepsAreNotCutIntoPages(t *testing.T) {
	list := rows(3, 1, 4)
	for i := range list {
		list[i].Start = noon.Add(time.Duration(2-i) * time.Hour)
	}
	q := question.Question{Measures: []amount.Measure{amount.CPU}, Step: time.Hour, Page: question.Page{First: 1}}
	a := q.Arrange(list)
	assert.Equal(t, "cba", names(a), "by time")
	assert.Nil(t, a.Next)
	assert.Equal(t, []float64{8}, a.Total.Units)

	none := question.Row{Name: "z", Sums: []question.Sum{question.NoFigure(1)}}
	idle := question.Row{Name: "y", Sums: []question.Sum{{Source: amount.Counted}}}
	q = question.Question{Measures: []amount.Measure{amount.CPU}, Order: question.Order{By: "peak"}}
	assert.Equal(t, "yz", names(q.Arrange([]question.Row{none, idle})), "what is not known is less than nothing used")
	q.Order.Turned = true
	assert.Equal(t, "zy", names(q.Arrange([]question.Row{idle, none})))
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

// Who used CPU time over a day and a half? The sum of the day answers, with that of the hours around it; how they go by
// the minute is among the intervals only.
func ExamplePlanFor() {
	evening := time.Date(2026, 10, 10, 18, 0, 0, 0, time.UTC)
	q := question.Question{
		Scope:    question.Scope{Span: question.Span{From: evening, To: evening.Add(36 * time.Hour)}},
		Measures: []amount.Measure{amount.CPU},
		By:       []question.Dimension{question.Tenant},
	}
	plan, _ := question.PlanFor(q)
	fmt.Println(plan.Reading.Days.Length(), "by the day of", plan.Reading.Hours.Length(), "by the hour")

	q.Step = time.Minute
	plan, _ = question.PlanFor(q)
	fmt.Println(plan.Reading.Hours.Length(), "by the hour")
	// Output:
	// 24h0m0s by the day of 36h0m0s by the hour
	// 0s by the hour
}

func TestSpan_LessIsWhatIsLeftOnBothSides(t *testing.T) {
	at := func(hour int) time.Time { return time.Date(2026, 10, 11, hour, 0, 0, 0, time.UTC) }
	span := func(from, to int) question.Span { return question.Span{From: at(from), To: at(to)} }
	for _, c := range []struct {
		inner question.Span
		want  []question.Span
	}{
		{span(3, 5), []question.Span{span(1, 3), span(5, 9)}},
		{span(1, 5), []question.Span{span(5, 9)}},
		{span(4, 9), []question.Span{span(1, 4)}},
		{span(1, 9), []question.Span{}},
		{span(4, 4), []question.Span{span(1, 9)}},
		{question.Span{}, []question.Span{span(1, 9)}},
	} {
		assert.Equal(t, c.want, span(1, 9).Less(c.inner), c.inner)
	}
	assert.True(t, span(4, 4).IsEmpty())
	assert.False(t, span(4, 5).IsEmpty())
}
