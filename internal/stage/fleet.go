package stage

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strconv"
	"time"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/cpuset"
)

const (
	gib = 1 << 30
	mb  = 1e6
)

// users of the cooperative's hosts.
var users = map[string]int64{
	"root": 0, "svc-cellar": 801, "svc-route": 802, "svc-bottle": 803, "svc-label": 804, "svc-vision": 805,
	"m.abt": 2001, "t.fink": 2002, "l.roth": 2003, "i.sauer": 2004, "p.kern": 2005,
}

// projects are what the members call the work of their service users.
var projects = map[string]string{"svc-cellar": "cellar", "svc-route": "harvest", "svc-label": "labels"}

// Tenants of the cooperative with the rule that assigns work to each, in the order the rules are tried.
var Tenants = []struct{ Name, Rule, PartOf string }{
	{"Bottling Line", `kind == 'vm' && owner == 'svc-bottle'`, ""},
	{"Frost Watch", `kind == 'job' && owner in ['m.abt', 't.fink']`, Department},
	{"Leaf Vision", `kind == 'job' && owner == 'svc-vision'`, Department},
	{"Cellar Intake", `kind == 'container' && owner == 'svc-cellar'`, ""},
	{"Harvest Routing", `kind == 'container' && owner == 'svc-route'`, ""},
	{"Label Press", `owner == 'svc-label'`, ""},
	{"Agronomy Desk", `kind == 'session' || (kind == 'loose' && uid >= 2000)`, ""},
}

// Department is a tenant with two projects as its parts, and no work of its own.
const Department = "Vineyard Research"

// Quota is a limit as a mean in its resource's unit, or of an allowance as an amount. The last of a tenant and resource
// holds from Before the end of the history on, or, without it, since long before its beginning.
type Quota struct {
	Tenant, Resource string
	Ceiling          float64
	Soft             float64 // 0 for none
	Before           time.Duration
	Reason           string
	Host, Pool       string // on these alone; on all hosts where both are empty
	Basis            string // what is used where it is empty
	Window, Zone     string // of an allowance
}

// Pools of the cooperative's hosts.
var Pools = map[string]string{"terrace-1": "terraces", "terrace-2": "terraces"}

// Spends is what Frost Watch spends an hour, in core-hours, about. Its allowance is made to last a little longer than
// the history.
const Spends = 29.0

// Quotas of the cooperative: cores, bytes, bytes per second. One was raised while the history was played.
var Quotas = append(plainQuotas, []Quota{
	{Tenant: "Frost Watch", Resource: "cpu", Ceiling: 40, Soft: 34, Reason: "agreed for the season"},
	{Tenant: "Cellar Intake", Resource: "memory", Ceiling: 24 * gib, Soft: 20 * gib, Reason: "agreed for the season"},
	{Tenant: "Harvest Routing", Resource: "cpu", Ceiling: 6, Soft: 5, Reason: "agreed for the season"},
	{Tenant: "Harvest Routing", Resource: "cpu", Ceiling: 10, Soft: 8, Before: 20 * time.Hour,
		Reason: "the upper terraces are picked this week"},
	{Tenant: "Leaf Vision", Resource: "gpu", Ceiling: 2, Reason: "four cards are theirs, and two are to stay free"},
	// The department's two projects count in it.
	{Tenant: Department, Resource: "cpu", Ceiling: 56, Soft: 48, Reason: "the department's budget"},
	// Exceeded by day, at the cost of the cache that shares two CPUs with them.
	{Tenant: "Agronomy Desk", Resource: "cpu", Ceiling: 1.2, Host: "terrace-2", Reason: "two CPUs are for all"},
	{Tenant: "Frost Watch", Resource: "memory", Ceiling: 120 * gib, Pool: "terraces", Basis: "greater"},
	{Tenant: "Agronomy Desk", Resource: "processes", Ceiling: 40, Soft: 20},
	{Tenant: "Label Press", Resource: "energy", Ceiling: 40, Soft: 30, Window: "month", Zone: "Europe/Vienna",
		Reason: "kWh as agreed with the press"},
	{Tenant: "Cellar Intake", Resource: "disk", Ceiling: 900e12, Window: "week", Zone: "Europe/Vienna"},
}...)

var plainQuotas = []Quota{
	{Tenant: "Frost Watch", Resource: "memory", Ceiling: 120 * gib},
	{Tenant: "Frost Watch", Resource: "disk", Ceiling: 900 * mb},
	{Tenant: "Frost Watch", Resource: "network", Ceiling: 600 * mb},
	{Tenant: "Leaf Vision", Resource: "cpu", Ceiling: 12},
	{Tenant: "Leaf Vision", Resource: "memory", Ceiling: 64 * gib},
	{Tenant: "Leaf Vision", Resource: "disk", Ceiling: 400 * mb},
	{Tenant: "Leaf Vision", Resource: "network", Ceiling: 400 * mb},
	{Tenant: "Cellar Intake", Resource: "cpu", Ceiling: 8},
	{Tenant: "Cellar Intake", Resource: "disk", Ceiling: 450 * mb},
	{Tenant: "Cellar Intake", Resource: "network", Ceiling: 500 * mb},
	{Tenant: "Harvest Routing", Resource: "memory", Ceiling: 32 * gib},
	{Tenant: "Harvest Routing", Resource: "disk", Ceiling: 200 * mb},
	{Tenant: "Harvest Routing", Resource: "network", Ceiling: 500 * mb},
	{Tenant: "Bottling Line", Resource: "cpu", Ceiling: 4},
	{Tenant: "Bottling Line", Resource: "memory", Ceiling: 12 * gib},
	{Tenant: "Bottling Line", Resource: "disk", Ceiling: 100 * mb},
	{Tenant: "Bottling Line", Resource: "network", Ceiling: 60 * mb},
	{Tenant: "Label Press", Resource: "cpu", Ceiling: 4},
	{Tenant: "Label Press", Resource: "memory", Ceiling: 10 * gib},
	{Tenant: "Label Press", Resource: "disk", Ceiling: 120 * mb},
	{Tenant: "Label Press", Resource: "network", Ceiling: 100 * mb},
	{Tenant: "Agronomy Desk", Resource: "cpu", Ceiling: 8},
	{Tenant: "Agronomy Desk", Resource: "memory", Ceiling: 32 * gib},
	{Tenant: "Agronomy Desk", Resource: "disk", Ceiling: 200 * mb},
	{Tenant: "Agronomy Desk", Resource: "network", Ceiling: 100 * mb},
}

// Pin is a declaration of CPUs. Its holder is a tenant unless Kind says otherwise.
type Pin struct {
	Host, CPUs, Kind, Holder, Reason string
	IsShared                         bool
}

// Pins of the cooperative: something of every verdict.
var Pins = []Pin{
	// Intruded on: a container's cpuset was never set.
	{Host: "cellar-1", CPUs: "12-15", Holder: "Bottling Line", Reason: "the line stops when its control waits"},
	// Strayed: it may run elsewhere, and does.
	{Host: "cellar-1", CPUs: "0-1", Kind: "rule", Holder: "owner == 'i.sauer'", IsShared: true,
		Reason: "copies are not to run beside the intake"},
	// Kept.
	{Host: "press-1", CPUs: "16-19", Kind: "workload", Holder: "route-solver-7c", Reason: "routes are due at six"},
	// Another tenant's work is on the other half of its core.
	{Host: "press-1", CPUs: "20", Kind: "workload", Holder: "route-api"},
	// Idle.
	{Host: "press-1", CPUs: "14-15", Holder: "Bottling Line", Reason: "for the second line, due in spring"},
	// Overlapping each other.
	{Host: "press-1", CPUs: "22-23", Kind: "workload", Holder: "route-map"},
	{Host: "press-1", CPUs: "23", Holder: "Label Press", IsShared: true},
	// Unenforced: one service may run there, and does not.
	{Host: "terrace-1", CPUs: "30-31", Kind: "workload", Holder: "forecast-archive"},
	// Interrupts of the network card land on one of them.
	{Host: "terrace-1", CPUs: "26-29", Kind: "workload", Holder: "job 41203"},
	// Of two memory nodes.
	{Host: "terrace-1", CPUs: "14-17", Kind: "workload", Holder: "job 41200"},
	// Squeezing: all others have two CPUs between them.
	{Host: "terrace-2", CPUs: "2-31", Holder: "Frost Watch", Reason: "forecasts come first"},
}

// Cooperative stages the fleet as it stands at a time: one cgroup v1 host, three v2, about 60 workloads.
func Cooperative(at time.Time) []*Host {
	hosts := []*Host{cellar1(at), press1(at), terrace1(at), terrace2(at)}
	for _, h := range hosts {
		h.Advance(time.Millisecond) // lays out memory before the first reading
	}
	return hosts
}

// Fleet stages all twelve hosts of the cooperative and their 240 workloads: those of Cooperative, and eight more like
// them.
func Fleet(at time.Time) []*Host {
	hosts := Cooperative(at)
	for i, name := range []string{"cellar-2", "cellar-3", "press-2", "press-3", "terrace-3", "terrace-4", "orchard-1",
		"office-1"} {
		h := another(name, i, at)
		h.Advance(time.Millisecond)
		hosts = append(hosts, h)
	}
	return hosts
}

// another stages a host that has something of everything: on two of them cgroups are of version 1, and on four nothing
// is counted in the kernel. It plays the incidents that the four have not: a neighbour that fills a drive, a service
// that hangs, a container that is ended for want of memory.
func another(name string, i int, at time.Time) *Host {
	cpus := 16
	if name == "orchard-1" {
		cpus = 8 // too few for all that is there: by day it is short
	}
	h := newHost(name, i%4 == 1, cpus, 64*gib, 600*mb, 10_000, at, 5+i)
	h.Counts = i%2 == 0
	h.everyday("")
	for n := range 10 {
		h.container(fmt.Sprintf("vat-log-%d%c", i, 'a'+n), "svc-cellar", "Cellar Intake", use{
			cores: 0.25 + 0.05*float64(n), memory: (1 + int64(n%2)) * gib, disk: float64(1+n) * mb,
			net: float64(2+n) * mb, shape: daily(0.3, 6+float64(n), 4),
			program: "intake", threads: 3, procs: 1 + n%3, limit: []float64{0, 0.25}[n%2], kills: int64(n / 9),
			weight: []int64{0, 0, 400}[n%3], most: []int64{0, 0, 0, 0, 3}[n%5] * gib,
		})
	}
	for n := range 4 {
		h.job(60000+100*i+n, []string{"m.abt", "t.fink", "svc-vision"}[n%3],
			[]string{"Frost Watch", "Frost Watch", "Leaf Vision"}[n%3], use{
				cores: []float64{1.4, 0.9, 1.6, 0.7}[n], memory: []int64{3, 2, 4, 1}[n] * gib,
				disk: []float64{6, 9, 3, 320}[n] * mb, net: []float64{5, 8, 2, 3}[n] * mb,
				shape: forecasts[(i+n)%len(forecasts)](i + n), program: "frost-ens", threads: 2, procs: 1 + n%2,
				account: "frost", asked: 2,
			})
	}
	h.session(60+i, "l.roth", "Agronomy Desk", use{cores: 0.5, memory: 2 * gib, disk: mb, net: mb,
		shape: daily(0.1, 14, 3), program: "notebook", threads: 4})
	h.service("time-keeper", use{cores: 0.01, memory: gib / 32, shape: steady(0.5), program: "timed"})
	h.service("label-spool", use{cores: 0, memory: gib / 8, shape: steady(0), program: "spool", threads: 2}) // hangs
	h.container("must-sample", "svc-cellar", "Cellar Intake",
		use{cores: 0.1, swarm: 0.3, memory: gib / 4, disk: mb, net: mb, shape: steady(0.7), program: "sh"})
	h.loose("p.kern", "Agronomy Desk", use{cores: 0.1, memory: gib / 4, disk: 0.2 * mb, shape: steady(0.5),
		program: "vinestat", procs: 2})
	if i < 6 { // so that there are 240 in all
		h.service("probe-agent", use{cores: 0.02, memory: gib / 16, net: 0.1 * mb, shape: steady(0.4),
			program: "probe"})
	}
	return h
}

func newHost(name string, v1 bool, cpus int, memory, diskRate, linkMbit int64, at time.Time, upDays int) *Host {
	h := &Host{
		Name: name, V1: v1, CPUs: cpus, MemoryBytes: memory, DiskRate: diskRate, LinkMbit: linkMbit,
		Boot: bootID(name), Counts: true,
		Users: users, Now: at, Uptime: time.Duration(upDays) * 24 * time.Hour,
		user: make([]int64, cpus), kernel: make([]int64, cpus), away: make([]int64, cpus),
		unplugged: make([]bool, cpus),
		hidden:    memory / 600 / pageSize * pageSize, slab: memory / 100 / pageSize * pageSize,
		cache:   memory / 20 / pageSize * pageSize,
		nextPID: 1000, seed: 20251011, power: powerOf(name),
	}
	for i := range 4 {
		h.kthreads = append(h.kthreads, &Process{PID: int32(10 + i), Program: "kworker/" + strconv.Itoa(i),
			Kernel: true, Threads: 1})
	}
	return h
}

// use is what a workload uses at full.
type use struct {
	cores     float64
	memory    int64
	disk, net float64 // bytes per second
	shape     shape
	procs     int
	program   string
	threads   int32
	cpus      string // CPUs it may run on; all when empty
	swarm     float64
	eager     int32   // threads of each process that want to run whenever it does
	limit     float64 // cores
	most      int64   // bytes of memory
	weight    int64   // of its cgroup; 0 for the usual
	swapped   int64   // bytes of it on swap
	kills     int64   // processes ended for want of memory, every 20 s
	account   string  // of a job
	asked     int     // CPUs a job asked for
}

func (h *Host) add(kind amount.Kind, name, owner, tenant, path string, u use) *Workload {
	w := &Workload{
		Kind: kind, Name: name, Owner: owner, Tenant: tenant, Path: path, cores: u.cores, memory: u.memory,
		diskRate: u.disk, netRate: u.net,
		shape: u.shape, swarm: u.swarm, PerCPU: make([]int64, h.CPUs), Limit: u.limit, Account: u.account,
		Asked: u.asked, Most: u.most, Weight: u.weight,
	}
	list := u.cpus
	if list == "" {
		list = fmt.Sprintf("0-%d", h.CPUs-1)
	}
	w.Allowed, _ = cpuset.Parse(list)
	if kind == amount.Container || kind == amount.Job {
		w.onDrive = 1
	}
	w.swapped, w.killRate = u.swapped, u.kills
	n := max(u.procs, 1)
	for i := range n {
		h.nextPID += 7
		w.Processes = append(w.Processes, &Process{
			PID: h.nextPID, Start: int64(h.Uptime.Seconds()*100) - int64(3600*100*(1+i%5)), Program: u.program,
			UID:     h.Users[owner],
			Threads: max(u.threads, 1), part: partOf(i, n), eager: u.eager,
		})
		if p := w.Processes[i]; i > 0 {
			p.Parent, p.Start = w.Processes[0].PID, max(p.Start, w.Processes[0].Start)
		}
	}
	h.Workloads = append(h.Workloads, w)
	return w
}

// partOf gives the first process half, the next a quarter, and the rest shares of what is left.
func partOf(i, n int) float64 {
	switch {
	case n == 1:
		return 1
	case i == 0:
		return 0.5
	default:
		return 0.5 / float64(n-1)
	}
}

func (h *Host) container(name, owner, tenant string, u use) *Workload {
	sum := sha256.Sum256([]byte(h.Name + name))
	id := hex.EncodeToString(sum[:])
	w := h.add(amount.Container, name, owner, tenant, "/machine.slice/"+id, u)
	w.ID = id
	w.Labels = map[string]string{
		"org.vinescale.name": name, "org.vinescale.owner": owner,
		"org.vinescale.image": "coop/" + u.program + ":2026.4", "coop.project": projects[owner],
	}
	w.Space = 4026532000 + uint64(len(h.Workloads))
	w.Link = fmt.Sprintf("veth%d", len(h.Workloads))
	w.layer = u.memory/3 + 40*mb
	return w
}

func (h *Host) job(id int, owner, tenant string, u use) {
	h.add(amount.Job, "job "+strconv.Itoa(id), owner, tenant, fmt.Sprintf("/batch/uid_%d/job_%d", h.Users[owner], id),
		u)
}

func (h *Host) service(name string, u use) {
	h.add(amount.Service, name, "root", "", "/system.slice/"+name+".service", u)
}

func (h *Host) session(n int, owner, tenant string, u use) {
	uid := h.Users[owner]
	h.add(amount.Session, fmt.Sprintf("sign-in %d of %s", n, owner), owner, tenant,
		fmt.Sprintf("/user.slice/user-%d.slice/session-%d.scope", uid, n), u)
}

func (h *Host) loose(owner, tenant string, u use) {
	h.add(amount.Loose, u.program+" of "+owner, owner, tenant, "", u)
}

// everyday adds the services every host has, on some CPUs (all when empty).
func (h *Host) everyday(cpus string) {
	h.service("cron", use{cores: 0.02, memory: gib / 32, disk: 0.01 * mb, shape: steady(0.6), cpus: cpus,
		program: "cron"})
	h.service("ssh", use{cores: 0.03, memory: gib / 32, net: 0.02 * mb, shape: steady(0.5), cpus: cpus, program: "sshd",
		procs: 2})
	h.service("journal", use{cores: 0.08, memory: gib / 8, disk: 0.8 * mb, shape: steady(0.7), cpus: cpus,
		program: "journald"})
}

// cellar1 has the sensor intake's containers and the bottling line's machine; one container strays onto its CPUs.
func cellar1(at time.Time) *Host {
	h := newHost("cellar-1", true, 16, 64*gib, 900*mb, 10_000, at, 41)
	h.everyday("0-11") // keeps off the bottling line's
	vm := use{cores: 3.6, memory: 10 * gib, disk: 22 * mb, net: 9 * mb, shape: daily(0.25, 11, 3.5),
		program: "qemu-system-x86_64", threads: 6, cpus: "12-15"}
	plc := h.add(amount.VM, "bottling-plc", "svc-bottle", "Bottling Line",
		"/machine.slice/machine-qemu\\x2d3\\x2dbottling-plc.scope", vm)
	plc.Link = "tap3"
	plc.Processes[0].Names = []string{"qemu-system-x86", "CPU 0/KVM", "CPU 1/KVM", "CPU 2/KVM", "CPU 3/KVM",
		"IO iothread0"}
	// One of its virtual CPUs may run beside another's, which nobody meant.
	plc.Processes[0].On = []string{"12-15", "12", "13", "14", "14-15", "12-15"}
	plc.Told = map[string]string{account.FactVCPUPins: "0: 12; 1: 13; 2: 14; 3: 15"}
	plc.Processes[0].weights = []float64{0.05, 0.38, 0.29, 0.14, 0.1, 0.04}
	for _, x := range []struct {
		name                     string
		cores, memory, disk, net float64 // GiB and MB a second
		shape                    shape
		procs                    int
		threads                  int32
		program                  string
	}{
		{"must-intake-1", 1.15, 1.9, 44, 58, daily(0.35, 9, 3), 4, 4, "intake"},
		{"must-intake-2", 0.72, 2.6, 31, 37, daily(0.3, 10.5, 4), 3, 4, "intake"},
		{"must-intake-3", 0.38, 0.9, 12, 16, bursts(17*time.Minute, 0.4, 0.15), 2, 4, "intake"},
		{"barrel-sense", 0.55, 3.2, 9, 6, steady(0.7), 1, 12, "sense"},
		{"cave-climate", 0.12, 0.4, 2, 1, ramp(3 * time.Hour), 1, 2, "climate"},
		{"sulphite-watch", 0.95, 1.3, 61, 22, bursts(40*time.Minute, 0.55, 0.3), 6, 3, "intake"},
	} {
		h.container(x.name, "svc-cellar", "Cellar Intake", use{
			cores: x.cores, memory: int64(x.memory * gib), disk: x.disk * mb, net: x.net * mb, shape: x.shape,
			program: x.program, threads: x.threads, procs: x.procs, cpus: "0-11",
		})
	}
	// its cpuset was never set, and it saturates a drive at every hour
	h.container("curd-fermentlog", "svc-cellar", "Cellar Intake", use{
		cores: 2.9, memory: 4 * gib, disk: 490 * mb, net: 30 * mb, shape: steady(0.98), program: "fermentlog",
		threads: 12,
	})
	h.container("probe-shell", "svc-cellar", "Cellar Intake", use{ // hundreds of short-lived children
		cores: 0.05, swarm: 0.6, memory: gib / 4, disk: mb, net: 0.5 * mb, shape: steady(0.8), program: "sh",
		cpus: "0-11",
	})
	h.loose("i.sauer", "Agronomy Desk", use{cores: 0.2, swarm: 0.05, memory: gib / 2, disk: 0.5 * mb, net: 0.2 * mb,
		shape: waves(3*time.Hour, 0.4, 0), program: "rsync", procs: 2, cpus: "0-11"})
	return h
}

// press1 has harvest routing, label printing and leaf vision.
func press1(at time.Time) *Host {
	h := newHost("press-1", false, 24, 96*gib, 1500*mb, 10_000, at, 12)
	const others = "0-9" // keep off what is declared, and on fewer CPUs than are left: in their busiest hours too few
	h.everyday(others)
	for i, name := range []string{"route-solver-7c", "route-solver-7d", "route-api", "route-map", "tractor-feed",
		"weigh-bridge"} {
		h.container(name, "svc-route", "Harvest Routing", use{
			cores: []float64{3.1, 2.6, 0.9, 0.6, 0.4, 0.2}[i], memory: []int64{8, 8, 3, 4, 1, 1}[i] * gib, disk: 9 * mb,
			net:   []float64{20, 20, 55, 40, 12, 4}[i] * mb,
			shape: daily(0.2, 7+float64(i)/2, 4), program: []string{"solver", "solver", "route-api", "tiles", "feed",
				"bridge"}[i], threads: 8, procs: 1 + i%3,
			cpus: []string{"16-19", others, "20", "22-23", others, others}[i],
			// One limit is that of the whole host, and so none; one is far above what is ever used.
			limit: []float64{0, 0, 0, 0, 24, 8}[i], most: []int64{0, 0, 0, 32, 96, 2}[i] * gib,
			weight: []int64{0, 300, 0, 0, 0, 50}[i],
		})
	}
	for i, name := range []string{"label-render", "label-queue", "label-proof", "label-archive"} {
		h.container(name, "svc-label", "Label Press", use{
			cores: []float64{1.7, 0.35, 0.62, 0.2}[i], memory: int64([]float64{2.4, 0.8, 1.7, 2.9}[i] * gib),
			disk: []float64{12, 4, 6, 60}[i] * mb, net: 8 * mb,
			shape: []shape{steady(0.98), bursts(25*time.Minute, 0.4, 0.2), waves(4*time.Hour, 0.55, 80*time.Minute),
				daily(0.1, 2, 2)}[i],
			program: "label-" + []string{"render", "queue", "render", "archive"}[i], threads: []int32{24, 3, 3, 3}[i],
			eager: []int32{22, 0, 0, 0}[i], limit: []float64{2, 0, 0, 0}[i],
			cpus: []string{others, "21", others, others}[i],
		})
	}
	for i := range 4 {
		h.job(5200+i, "svc-vision", "Leaf Vision", use{
			cores: []float64{0.9, 2.5, 2.9, 2.1}[i], memory: []int64{6, 11, 9, 7}[i] * gib,
			disk: []float64{4, 96, 71, 88}[i] * mb, net: []float64{1, 33, 24, 30}[i] * mb,
			shape:   []shape{steady(0.12), bursts(170*time.Second, 0.45, 0.2), steady(0.8), ramp(2 * time.Hour)}[i],
			program: "leafscan", threads: []int32{6, 8, 8, 4}[i], procs: []int{1, 3, 3, 2}[i],
			account: "leaf", asked: 3, cpus: others,
		})
	}
	h.libraryGPUs([4]string{"job 5200", "job 5201", "job 5202", "job 5203"}, "label-proof")
	return h
}

// forecasts are how ensembles go: in runs of some hours, in bursts while they wait for data, or growing as their region
// does.
var forecasts = []func(n int) shape{
	func(n int) shape { return waves(6*time.Hour, 0.62, time.Duration(n)*23*time.Minute) },
	func(n int) shape { return bursts(time.Duration(35+7*n)*time.Minute, 0.7, 0.25) },
	func(n int) shape { return ramp(time.Duration(100+20*n) * time.Minute) },
	func(n int) shape { return daily(0.4, float64(3+2*n%24), 5) },
}

// terrace1 runs the frost forecasts' ensembles.
func terrace1(at time.Time) *Host {
	h := newHost("terrace-1", false, 32, 128*gib, 2*1000*mb, 25_000, at, 87)
	const others = "0-13,18-25"
	h.everyday(others)
	h.Workloads[1].Allowed, _ = cpuset.Parse("0-31") // the sign-in server may run everywhere, and does not
	h.interrupted = cpuset.Of(28)                    // where the network card's land
	for i := range 8 {
		h.job(41200+i, []string{"m.abt", "t.fink"}[i%2], "Frost Watch", use{
			cores:  []float64{3.9, 3.1, 3.7, 2.2, 3.8, 2.9, 3.4, 3.5}[i],
			memory: []int64{12, 8, 9, 6, 11, 7, 9, 10}[i] * gib,
			disk:   []float64{80, 41, 66, 23, 72, 38, 55, 60}[i] * mb,
			net:    []float64{44, 25, 31, 12, 38, 22, 30, 33}[i] * mb, shape: forecasts[i%len(forecasts)](i),
			program: "frost-ens", threads: []int32{4, 4, 4, 3, 4, 4, 4, 8}[i], procs: 1 + i%3,
			account: "frost", asked: 4, cpus: map[int]string{0: "14-17", 3: "26-29"}[i],
		})
		if i != 0 && i != 3 {
			h.Workloads[len(h.Workloads)-1].Allowed, _ = cpuset.Parse(others)
		}
	}
	h.service("forecast-archive", use{cores: 0.6, memory: 3 * gib, disk: 45 * mb, net: 15 * mb, shape: daily(0.3, 4, 3),
		program: "archive", threads: 2, cpus: "30-31"})
	h.loose("t.fink", "Agronomy Desk", use{cores: 0.15, swarm: 0.1, memory: gib, shape: steady(0.5),
		program: "gridtool", procs: 3, cpus: others})
	h.drmGPUs([2]string{"job 41200", "job 41201"}, "gridtool of t.fink")
	return h
}

// terrace2 has more forecasts and the agronomists' sign-ins; one holds memory and sleeps. What it uses is read from
// files alone.
func terrace2(at time.Time) *Host {
	h := newHost("terrace-2", false, 32, 128*gib, 2*1000*mb, 25_000, at, 41)
	h.Counts = false     // its collector has no right to
	const others = "0-1" // all that is left beside the forecasts
	h.everyday(others)
	for i := range 6 {
		h.job(41300+i, []string{"m.abt", "t.fink"}[i%2], "Frost Watch", use{
			cores: []float64{3.6, 2.7, 3.3, 3.0, 3.8, 2.5}[i], memory: []int64{8, 5, 6, 4, 7, 5}[i] * gib,
			disk: []float64{52, 30, 41, 35, 58, 26}[i] * mb, net: []float64{29, 17, 22, 20, 31, 13}[i] * mb,
			shape: forecasts[(i+1)%len(forecasts)](i + 8), program: "frost-ens", threads: []int32{4, 3, 4, 4, 5, 3}[i],
			procs: 1 + (i+1)%3, account: "frost", asked: 4, cpus: "2-31",
		})
		h.Workloads[len(h.Workloads)-1].Told = map[string]string{
			account.FactCPUsGiven: fmt.Sprintf("%d-%d", 2+4*i, 5+4*i)}
	}
	// asleep since morning
	h.session(31, "l.roth", "Agronomy Desk", use{cores: 0.02, memory: 28 * gib, shape: steady(0.02),
		program: "notebook", threads: 12, procs: 2, swapped: 3 * gib, cpus: others})
	h.session(44, "p.kern", "Agronomy Desk", use{cores: 2.4, memory: 5 * gib, disk: 15 * mb, net: 6 * mb,
		shape: daily(0.05, 15, 3), program: "vinestat", threads: 4, procs: 2, cpus: others})
	h.session(45, "i.sauer", "Agronomy Desk", use{cores: 1.1, memory: 3 * gib, disk: 5 * mb, net: 2 * mb,
		shape: daily(0.05, 10, 2), program: "soilmap", threads: 2, cpus: others})
	// forgotten
	h.session(12, "p.kern", "Agronomy Desk", use{cores: 0.01, memory: gib / 8, shape: steady(0.1), program: "bash",
		cpus: others})
	h.container("weather-cache", "svc-route", "Harvest Routing",
		use{cores: 1.9, memory: 6 * gib, disk: 14 * mb, net: 45 * mb, shape: steady(0.9), program: "cache",
			threads: 2, cpus: others})
	h.loose("p.kern", "Agronomy Desk", use{cores: 0.3, memory: gib, disk: 0.6 * mb, shape: waves(2*time.Hour, 0.3, 0),
		program: "vinestat", cpus: others})
	return h
}
