package hub_test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/question"
	"vinescale/core/whatif"
	"vinescale/internal/hub"
	"vinescale/internal/store"
	"vinescale/internal/testdb"
	"vinescale/internal/wire"
)

// staged is a fleet with what each workload wants in each tick of ten seconds: cores, and bytes of memory. A host gives
// what it has, in proportion to what is wanted; what was not given comes later.
type staged struct {
	hosts     map[string]float64 // their cores
	on        map[string]string  // of each workload, its host
	cores     map[string][]float64
	bytes     map[string][]float64
	own, rest float64 // cores that each host's kernel has, and that are nobody's
}

const (
	stagedTick    = 10 * time.Second
	stagedMinutes = 12
	stagedTicks   = stagedMinutes * 6
	stagedMemory  = 1 << 20
)

// replayed is what came of it: what each workload had in each tick, and how much was not given when it was wanted.
type replayed struct {
	had  map[string][]float64
	late float64 // core seconds, at the end of each tick
}

func (f *staged) play() replayed {
	p := replayed{had: map[string][]float64{}}
	due := map[string]float64{} // core seconds not given yet
	for tick := range stagedTicks {
		wanted := map[string]float64{}
		for w := range f.on {
			due[w] += f.cores[w][tick] * stagedTick.Seconds()
			wanted[f.on[w]] += due[w]
		}
		for w, host := range f.on {
			room := (f.hosts[host] - f.own - f.rest) * stagedTick.Seconds()
			given := due[w] * min(1, room/max(wanted[host], 1e-9))
			due[w] -= given
			p.had[w] = append(p.had[w], given/stagedTick.Seconds())
			p.late += due[w]
		}
	}
	return p
}

// most is the highest tick of a host.
func (f *staged) most(p replayed, host string) (cores, bytes float64) {
	for tick := range stagedTicks {
		c, b := f.own+f.rest, 0.0
		for w, on := range f.on {
			if on == host {
				c, b = c+p.had[w][tick], b+f.bytes[w][tick]
			}
		}
		cores, bytes = max(cores, c), max(bytes, b)
	}
	return cores, bytes
}

// record has a service take what the hosts of a fleet told of it by the minute.
func (f *staged) record(t *testing.T, p replayed) *fixture {
	s, err := store.Open(ctx, testdb.New(t))
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	x := &fixture{t: t, now: noon.Add(time.Hour)}
	x.Hub = hub.New(s, hub.Options{Now: func() time.Time { return x.now }})
	for host, cores := range f.hosts {
		_, err := x.Enrol(ctx, host)
		require.NoError(t, err)
		h, err := x.Host(ctx, host)
		require.NoError(t, err)
		for minute := range stagedMinutes {
			var sum *account.Interval
			var names describer
			for w, on := range f.on {
				if on == host {
					names = append(names, account.Workload{Key: "container:" + w, Kind: amount.Container, Name: w,
						Owner: "svc-cellar"})
				}
			}
			for tick := 6 * minute; tick < 6*minute+6; tick++ {
				from := noon.Add(time.Duration(tick) * stagedTick)
				iv := &account.Interval{Boot: "b", From: from, To: from.Add(stagedTick), CPUCount: int(cores),
					ElapsedMillis: stagedTick.Milliseconds(), Ticks: 1}
				micros := stagedTick.Seconds() * 1e6
				used, taken := (f.own+f.rest)*micros, int64(0)
				for i := range names {
					had, bytes := p.had[names[i].Name][tick], f.bytes[names[i].Name][tick]
					u := account.Usage{Workload: account.WorkloadID(i)}
					for r := range u.Source {
						u.Source[r] = amount.Unavailable
					}
					u.Units[amount.CPU], u.Peak[amount.CPU] = int64(had*micros), int64(had*1e6)
					u.Units[amount.Memory], u.Peak[amount.Memory] = int64(bytes)*iv.ElapsedMillis, int64(bytes)
					u.Source[amount.CPU], u.Source[amount.Memory] = amount.Counted, amount.Counted
					used, taken = used+had*micros, taken+u.Units[amount.Memory]
					iv.Usages = append(iv.Usages, u)
				}
				for r := range iv.Ledgers {
					iv.Ledgers[r] = account.Ledger{Capacity: account.Line{Reason: "not staged"},
						Used: account.Line{Reason: "not staged"}, Idle: account.Line{Reason: "not staged"},
						Kernel: account.Line{Reason: "not staged"}, Steal: account.Line{Reason: "not staged"}}
				}
				line := func(units float64) account.Line { return account.Line{Units: int64(units)} }
				iv.Ledgers[amount.CPU] = account.Ledger{Capacity: line(cores * micros), Used: line(used),
					Idle: line(cores*micros - used), Kernel: line(f.own * micros)}
				iv.Ledgers[amount.Memory] = account.Ledger{Capacity: line(stagedMemory * float64(iv.ElapsedMillis)),
					Used: line(float64(taken)), Idle: line(stagedMemory*float64(iv.ElapsedMillis) - float64(taken))}
				if sum != nil {
					iv = sum.Add(iv)
				}
				sum = iv
			}
			x.sequence++
			_, err := x.Ingest(ctx, h, &wire.Batch{Version: wire.Version, Host: host,
				Intervals: []*wire.Interval{wire.FromInterval(sum, x.sequence, "v2", names)}})
			require.NoError(t, err)
		}
	}
	return x
}

// TestWhatIf_AFleetPlayedAgainWithTheChangeIsAsItWasSaid stages fleets in which nobody waits, asks for what would be
// without some host, and plays them again so: then nobody waits either, and no host has more than was said. Of one
// workload that goes elsewhere the highest tick of each minute is told, at most.
func TestWhatIf_AFleetPlayedAgainWithTheChangeIsAsItWasSaid(t *testing.T) {
	emptied, placed := 0, 0
	for seed := range uint64(5) {
		random := rand.New(rand.NewPCG(seed, 7))
		f := &staged{hosts: map[string]float64{"cellar-1": 6, "press-1": 8, "terrace-1": 5}, on: map[string]string{},
			cores: map[string][]float64{}, bytes: map[string][]float64{}, own: 0.25, rest: 0.5}
		for host := range f.hosts {
			for n := range 3 {
				w := fmt.Sprintf("%s of %s", []string{"must", "lees", "marc"}[n], host)
				f.on[w] = host
				usual, high, held := 0.2+random.Float64()*0.5, 1+random.Float64()*0.6, 40_000+random.Float64()*120_000
				for range stagedTicks {
					cores := usual * (0.5 + random.Float64())
					if random.IntN(20) == 0 {
						cores = high
					}
					f.cores[w] = append(f.cores[w], cores)
					f.bytes[w] = append(f.bytes[w], float64(int64(held*(0.8+0.2*random.Float64()))))
				}
			}
		}
		was := f.play()
		require.Zero(t, was.late, "nobody waits")
		c := f.record(t, was)
		span := question.Span{From: noon, To: noon.Add(stagedMinutes * time.Minute)}
		asked := hub.FleetQuestion{Span: span, Percent: 100}
		for host := range f.hosts {
			x, err := c.WhatIfHosts(ctx, &hub.HostsQuestion{FleetQuestion: asked, Without: []string{host}})
			require.NoError(t, err)
			if !x.CanBe {
				continue
			}
			emptied++
			again := f.with(x.Moves, host)
			now := again.play()
			assert.Zero(t, now.late, "seed %d without %s: nobody waits", seed, host)
			cores, bytes := 0.0, 0.0
			for left := range again.hosts {
				c, b := again.most(now, left)
				assert.LessOrEqual(t, c, again.hosts[left]+1e-6, "seed %d without %s: %s", seed, host, left)
				assert.LessOrEqual(t, b, float64(stagedMemory), "seed %d without %s: %s", seed, host, left)
				cores, bytes = cores+c, bytes+b
			}
			assert.LessOrEqual(t, cores, x.After.CPUPart*x.After.CPUs+1e-4, "no more than was said")
			assert.LessOrEqual(t, bytes, x.After.MemoryPart*x.After.Memory+1)
		}
		// One workload goes where the most room is said to be.
		const moves = "lees of cellar-1"
		found, err := c.Find(ctx, moves, "")
		require.NoError(t, err)
		p, err := c.Place(ctx, &hub.PlaceQuestion{FleetQuestion: asked, Workload: found[0].ID})
		require.NoError(t, err)
		for _, fit := range p.Hosts {
			again := f.with([]whatif.Move{{Name: moves, To: fit.Host}}, "")
			now := again.play()
			cores, bytes := again.most(now, fit.Host)
			assert.LessOrEqual(t, cores, fit.CPU+1e-4, "seed %d on %s", seed, fit.Host)
			assert.LessOrEqual(t, bytes, fit.Memory+1, "seed %d on %s", seed, fit.Host)
			if fit.Fits {
				placed++
				assert.Zero(t, now.late, "seed %d on %s: nobody waits", seed, fit.Host)
			}
		}
	}
	t.Logf("%d hosts could be emptied, %d places fitted", emptied, placed)
	assert.Greater(t, emptied, 3)
	assert.Greater(t, placed, 5)
}

// with is the fleet with workloads moved, and without a host.
func (f *staged) with(moves []whatif.Move, without string) *staged {
	x := *f
	x.hosts, x.on = map[string]float64{}, map[string]string{}
	for host, cores := range f.hosts {
		if host != without {
			x.hosts[host] = cores
		}
	}
	for w, host := range f.on {
		for _, m := range moves {
			if m.Name == w {
				host = m.To
			}
		}
		if host != without {
			x.on[w] = host
		}
	}
	return &x
}
