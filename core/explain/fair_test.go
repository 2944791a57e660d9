package explain

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func contender(path, weights string, ran, waited float64) Contender {
	return Contender{Path: path, Weights: weights, Ran: ran, Waited: waited, IsTold: true}
}

func TestFair_WhatIsDividedByWeights(t *testing.T) {
	for name, c := range map[string]struct {
		of   []Contender
		want []float64
	}{
		"equal weights": {[]Contender{contender("/a", "100", 90, 30), contender("/b", "100", 30, 90)},
			[]float64{60, 60}},
		"three to one": {[]Contender{contender("/a", "300", 60, 100), contender("/b", "100", 60, 100)},
			[]float64{90, 30}},
		"who wants less has that, and the rest goes to the others": {
			[]Contender{contender("/a", "300", 10, 0), contender("/b", "100", 70, 50), contender("/c", "100", 40, 80)},
			[]float64{10, 55, 55}},
		"slices first, and what is in them among itself": {
			[]Contender{contender("/s/a", "100/100", 40, 80), contender("/s/b", "100/300", 40, 80),
				contender("/c", "100", 40, 80)},
			[]float64{15, 45, 60}},
		"a level without a weight is passed over": {
			[]Contender{contender("/s/a", "-/100", 40, 80), contender("/s/b", "-/100", 40, 80),
				contender("/c", "100", 40, 80)},
			[]float64{40, 40, 40}},
		"two loose threads weigh as two groups": {
			[]Contender{contender("", "", 30, 90), contender("/c", "100", 30, 90)}, []float64{40, 20}},
		"the tasks of an outer workload compete with what is within it": {
			[]Contender{contender("/s", "100", 30, 30), contender("/s/a", "100/100", 30, 30),
				contender("/b", "200", 60, 60)}, []float64{20, 20, 80}},
		"a limit is no wish": {[]Contender{{Path: "/a", Weights: "100", Ran: 30, Waited: 90, Limit: 0.6},
			contender("/b", "100", 60, 60)}, []float64{36, 54}},
		"nobody wanted more": {[]Contender{contender("/a", "1", 60, 0), contender("/b", "10000", 20, 0)},
			[]float64{60, 20}},
		"weights that do not fit the path are none": {
			[]Contender{contender("/a/b", "100", 40, 20), contender("/c", "100", 20, 40)}, []float64{30, 30}},
		"nothing": {[]Contender{contender("/a", "100", 0, 0)}, []float64{0}},
	} {
		t.Run(name, func(t *testing.T) {
			assert.InDeltaSlice(t, c.want, FairShares(c.of, 60), 1e-9)
		})
	}
}

// TestFair_Holds tries random trees: what was had is divided and no more, nobody is given more than it wanted, what is
// taken off one's weight never gives it more, and the order changes nothing.
func TestFair_Holds(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 11))
	paths := []string{"", "/a", "/a/x", "/a/y", "/b", "/b/x/z"}
	weight := func() string { return []string{"1", "50", "100", "250", "10000", "-"}[random.IntN(6)] }
	for range 500 {
		var of []Contender
		sum := 0.0
		weights := map[string]string{"/a": weight(), "/a/x": weight(), "/a/y": weight(), "/b": weight(),
			"/b/x": weight(), "/b/x/z": weight()}
		full := func(path string) string {
			text := ""
			for i := range path {
				if i > 0 && path[i] == '/' {
					text += weights[path[:i]] + "/"
				}
			}
			return text + weights[path]
		}
		for range 1 + random.IntN(7) {
			path := paths[random.IntN(len(paths))]
			c := contender(path, full(path), float64(random.IntN(200)), float64(random.IntN(3)*random.IntN(100)))
			sum += c.Ran
			of = append(of, c)
		}
		shares := FairShares(of, 60)
		total := 0.0
		for i, share := range shares {
			total += share
			assert.LessOrEqual(t, share, of[i].Ran+of[i].Waited+1e-9)
			assert.GreaterOrEqual(t, share, 0.0)
		}
		require.InDelta(t, sum, total, 1e-6, "%+v", of)
		turned := append([]Contender{}, of...)
		for i, j := 0, len(turned)-1; i < j; i, j = i+1, j-1 {
			turned[i], turned[j] = turned[j], turned[i]
		}
		for i, share := range FairShares(turned, 60) {
			require.InDelta(t, shares[len(of)-1-i], share, 1e-6)
		}
	}
	for range 200 {
		a, b := contender("/a", "100", 50, 70), contender("/b", "100", 70, float64(random.IntN(200)))
		before := FairShares([]Contender{a, b}, 60)[0]
		a.Weights = []string{"1", "40", "99"}[random.IntN(3)]
		assert.LessOrEqual(t, FairShares([]Contender{a, b}, 60)[0], before+1e-9)
	}
}

func TestFair_CPUsThatWereShort(t *testing.T) {
	at := time.Date(2026, 11, 20, 3, 0, 0, 0, time.UTC)
	of := func(tenant int32, allowed string, c Contender) Contender {
		c.User, c.Allowed = User{Workload: int64(tenant), Tenant: tenant}, allowed
		return c
	}
	names := func(u User) UserRef {
		ref := UserRef{Tenant: []string{"", "Frost", "Leaf"}[u.Tenant]}
		ref.Name = "w" + string(rune('0'+u.Workload))
		return ref
	}
	untold := of(2, "1", contender("/c", "100", 6, 0))
	untold.IsTold = false
	list := AddShortages([]Contest{
		{"press-1", 4, at, at.Add(time.Minute), []Contender{of(1, "0-1", contender("/a", "100", 70, 30)),
			of(2, "0-1", contender("/b", "100", 24, 70)), untold, of(1, "2", contender("/d", "100", 60, 1)),
			of(1, "0-3", contender("/e", "100", 0.2, 0)), // it may run anywhere and hardly does
			of(2, "", contender("/f", "100", 0.1, 0))}},
		{"press-1", 4, at.Add(time.Hour), at.Add(time.Hour + 2*time.Minute), []Contender{
			of(1, "0-1", contender("/a", "100", 140, 60)), of(2, "0,1", contender("/b", "100", 60, 140))}},
		{
			"press-1",
			4,
			at.Add(-time.Hour),
			at,
			[]Contender{of(1, "0-1", contender("/a", "100", 7000, 349))},
		}, // hardly any waiting
		{
			"press-1",
			4,
			at.Add(-time.Hour),
			at,
			[]Contender{of(1, "0-1", contender("/a", "100", 5399, 9000))},
		}, // not busy
		{"cellar-1", 2, at, at.Add(time.Minute), []Contender{of(1, "", contender("/a", "100", 60, 300)),
			of(2, "1", contender("/b", "100", 60, 3))}},
	}, names)
	require.Len(t, list, 2)
	assert.Equal(
		t,
		[]any{"cellar-1", "", 60.0},
		[]any{list[0].Host, list[0].CPUs, list[0].Looked},
		"where most was waited",
	)
	p := list[1]
	assert.Equal(t, []any{"0-1", at, at.Add(time.Hour + 2*time.Minute), 180.0, 7380.0, 300.0, 1},
		[]any{p.CPUs, p.From, p.To, p.Long, p.Looked, p.Waited, p.Untold})
	assert.InDelta(t, 300.3, p.Ran, 1e-9)
	require.Len(t, p.Of, 2)
	assert.Equal(t, "Frost", p.Of[0].Tenant)
	assert.InDeltaSlice(t, []float64{210.2, 90, 147.2, 63}, []float64{p.Of[0].Ran, p.Of[0].Waited, p.Of[0].Fair,
		p.Of[0].More}, 1e-9)
	assert.InDeltaSlice(t, []float64{90.1, 210, 153.1, -63}, []float64{p.Of[1].Ran, p.Of[1].Waited, p.Of[1].Fair,
		p.Of[1].More}, 1e-9)
	assert.Equal(t, "w1", p.Of[0].Most.Name)
	assert.InDelta(t, 100, p.Of[0].Most.Fair, 1e-9, "in the stretch in which it was furthest from it")
}
