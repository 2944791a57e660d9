package cpuset

import (
	"math/bits"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// twoNodes is a host of 16 CPUs: two nodes of four cores with two threads each, threads of a core eight apart.
func twoNodes() Places {
	var p Places
	for cpu := range 16 {
		p = append(p, Place{CPU: cpu, Core: cpu % 4, Package: cpu % 8 / 4, Node: cpu % 8 / 4})
	}
	return p
}

func TestLay_WholeCoresOfOneNodeWithTheLeastWork(t *testing.T) {
	list := func(s string) Set { set, _ := Parse(s); return set }
	for _, x := range []struct {
		name   string
		r      Request
		cpus   string
		shared int
		nodes  []int
	}{
		{"the first of equals", Request{CPUs: 4}, "0-1,8-9", 0, []int{0}},
		{"where the least is at work", Request{CPUs: 4, Work: map[int]int64{0: 9, 1: 9, 2: 9, 3: 1, 4: 1, 13: 2}},
			"6-7,14-15", 0, []int{1}},
		{"where it is already", Request{CPUs: 4, Work: map[int]int64{5: -3, 13: -3, 6: -3, 14: -3}}, "5-6,13-14", 0,
			[]int{1}},
		{"whole cores before one node", Request{CPUs: 8, Taken: list("8,13")}, "1-4,9-12", 0, []int{0, 1}},
		{"an odd number shares a core", Request{CPUs: 3}, "0-1,8", 1, []int{0}},
		{"half a core that others have already", Request{CPUs: 1, Taken: list("1-15")}, "0", 1, []int{0}},
		{"all but what is kept", Request{CPUs: 14, Keep: 2}, "0-6,8-14", 0, []int{0, 1}},
	} {
		got, err := Lay(twoNodes(), &x.r)
		require.NoError(t, err, x.name)
		assert.Equal(t, x.cpus, got.CPUs.String(), x.name)
		assert.Equal(t, x.shared, got.Shared, x.name)
		assert.Equal(t, x.nodes, got.Nodes, x.name)
	}
	_, err := Lay(twoNodes(), &Request{CPUs: 14, Keep: 3})
	require.ErrorIs(t, err, ErrNoRoom)
	assert.Equal(t, &TooFew{Free: 16, Wanted: 14, Keep: 3}, err)
	assert.EqualError(t, err, "it has 16 free, 3 of them to be left for everybody, and 14 are wanted")
	_, err = Lay(twoNodes(), &Request{CPUs: 3, Keep: 1, Spoken: list("2-15")})
	require.EqualError(t, err, "it has 2 free, one of them to be left for everybody, and 3 are wanted")
	_, err = Lay(nil, &Request{CPUs: 1})
	require.ErrorIs(t, err, ErrNoRoom)
}

// TestLay_IsAsGoodAsTryingEverything holds Lay to an exhaustive search on random small hosts: uneven cores, nodes that
// are not known, CPUs that are taken. It never overlaps, and never empties what is left.
func TestLay_IsAsGoodAsTryingEverything(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var p Places
		for i := range rapid.IntRange(1, 11).Draw(t, "cpus") {
			p = append(p, Place{CPU: i, Core: rapid.IntRange(-1, 3).Draw(t, "core"),
				Package: rapid.IntRange(0, 1).Draw(t, "package")})
			p[i].Node = p[i].Package
			if rapid.IntRange(0, 9).Draw(t, "odd") == 0 {
				p[i].Node = -1
			}
		}
		// A core is of one node.
		for i := range p {
			for j := range i {
				if p[i].Core >= 0 && p[i].Core == p[j].Core && p[i].Package == p[j].Package {
					p[i].Node = p[j].Node
				}
			}
		}
		r := Request{CPUs: rapid.IntRange(1, len(p)).Draw(t, "wanted"), Keep: rapid.IntRange(0, 3).Draw(t, "keep"),
			Work: map[int]int64{}}
		for _, x := range p {
			if rapid.IntRange(0, 5).Draw(t, "spoken") == 0 {
				r.Spoken = r.Spoken.With(x.CPU)
			}
			if rapid.IntRange(0, 3).Draw(t, "taken") == 0 {
				r.Taken = r.Taken.With(x.CPU)
			}
			r.Work[x.CPU] = rapid.Int64Range(-2, 4).Draw(t, "work")
		}
		best, is := everyChoice(p, &r)
		got, err := Lay(p, &r)
		if !is {
			require.ErrorIs(t, err, ErrNoRoom)
			return
		}
		require.NoError(t, err)
		require.Zero(t, got.Against(&best), "%v; the best is %v", got, best)
		require.Equal(t, r.CPUs, got.CPUs.Len())
		require.False(t, got.CPUs.Overlaps(r.Taken.Union(r.Spoken)))
		require.False(t, got.CPUs.Overlaps(got.Left))
		require.True(t, got.CPUs.Union(got.Left).Equal(p.All().Minus(r.Taken)))
		require.GreaterOrEqual(t, got.Left.Len(), r.Keep)
	})
}

// TestLay_OfManyNodesTriesEachAloneAndThenTheEmptiest: ten nodes of four CPUs, of which the later have more free.
func TestLay_OfManyNodesTriesEachAloneAndThenTheEmptiest(t *testing.T) {
	var p Places
	var taken Set
	for cpu := range 40 {
		p = append(p, Place{CPU: cpu, Core: cpu % 4, Package: cpu / 4, Node: cpu / 4})
		if node := cpu / 4; cpu%4 > node/3 { // node 0 has one CPU free, node 9 all four
			taken = taken.With(cpu)
		}
	}
	for _, x := range []struct {
		cpus  int
		nodes []int
		work  int64
	}{{1, []int{6}, -1}, {4, []int{9}, 0}, {6, []int{6, 9}, -1}, {8, []int{6, 7, 9}, -1}} {
		got, err := Lay(p, &Request{CPUs: x.cpus, Taken: taken, Work: map[int]int64{24: -1}})
		require.NoError(t, err)
		assert.Equal(t, x.cpus, got.CPUs.Len())
		assert.False(t, got.CPUs.Overlaps(taken))
		assert.Equal(t, x.nodes, got.Nodes)
		assert.Equal(t, x.work, got.Work, "CPU 24 is the holder's")
	}
}

// everyChoice tries every set of CPUs.
func everyChoice(p Places, r *Request) (best Layout, is bool) {
	free := p.All().Minus(r.Taken)
	for of := range uint(1) << len(p) {
		if bits.OnesCount(of) != r.CPUs {
			continue
		}
		x := Layout{}
		for i := range p {
			if of>>i&1 == 1 {
				x.CPUs = x.CPUs.With(p[i].CPU)
				x.Work += r.Work[p[i].CPU]
			}
		}
		x.Left = free.Minus(x.CPUs)
		if !x.CPUs.Within(free.Minus(r.Spoken)) || x.Left.Len() < r.Keep {
			continue
		}
		x.Nodes = p.Nodes(x.CPUs)
		for i := range p { // a core is shared once, where a CPU of it is chosen and another is not
			first := true
			hasOther := false
			for j := range p {
				if p[i].Core < 0 || p[j].Core != p[i].Core || p[j].Package != p[i].Package {
					continue
				}
				if x.CPUs.Has(p[j].CPU) && j < i {
					first = false
				}
				hasOther = hasOther || !x.CPUs.Has(p[j].CPU)
			}
			if x.CPUs.Has(p[i].CPU) && first && hasOther {
				x.Shared++
			}
		}
		if !is || x.Against(&best) < 0 {
			best, is = x, true
		}
	}
	return best, is
}

func BenchmarkLay_EightNodes(b *testing.B) {
	var p Places
	for cpu := range 512 {
		p = append(p, Place{CPU: cpu, Core: cpu % 32, Package: cpu % 256 / 32, Node: cpu % 256 / 32})
	}
	for b.Loop() {
		_, _ = Lay(p, &Request{CPUs: 300, Work: map[int]int64{1: 5}})
	}
}
