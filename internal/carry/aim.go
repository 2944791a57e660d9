package carry

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"strings"

	"vinescale/core/account"
	"vinescale/core/act"
	"vinescale/core/amount"
)

// aim is what an act is aimed at, as it is now.
type aim struct {
	words    string
	identity []string          // what tells it from another
	workload *account.Workload // where it is a whole workload
	members  []process         // all that it is, those that are spared too
	hit      []process         // those that are touched
	left     []act.Refusal
	inner    []string // names of other workloads within its group, which would feel what is done to that
	shared   []string // names of workloads that other processes in its group are of
	keys     []string // of the workloads that are touched
	touched  []act.Touched
	spare    *sparer
}

// find finds what a request is aimed at. The error says why it cannot be, or may not be.
func (h *Host) find(
	ctx context.Context,
	r *act.Request,
	whose map[string]string,
	policy *act.Policy,
) (*aim, error) {
	known, err := h.Known(ctx)
	if err != nil {
		return nil, err
	}
	list, err := h.all()
	if err != nil {
		return nil, err
	}
	placeAll(list, known)
	a := &aim{identity: []string{known.Boot}}
	switch r.Target.Form {
	case act.OfProcess, act.OfFamily:
		err = h.aimAtProcess(a, r, list)
	case act.OfProgram:
		err = h.aimAtProgram(a, r, list)
	case act.OfWorkload:
		err = h.aimAtWorkload(a, r, list, known)
	default:
		return nil, refuse("%s is not aimed at processes", r.Target.String())
	}
	if err != nil {
		return nil, err
	}
	a.spare = h.newSparer(known, list, policy)
	return a, h.permit(a, r, known, whose, policy)
}

// placeAll says of which workload each process is. One that began since the host was read is of its parent's.
func placeAll(list []process, known *Known) {
	at := make(map[int32]int, len(list))
	for i := range list {
		at[list[i].pid] = i
		list[i].workload = known.Of[Process{list[i].pid, list[i].start}]
	}
	for i := range list {
		p := &list[i]
		for up, depth := p, 0; p.workload == "" && depth < 64; depth++ {
			k, is := at[up.parent]
			if !is || up.isKernel {
				break
			}
			up = &list[k]
			p.workload = up.workload
		}
	}
}

func (h *Host) aimAtProcess(a *aim, r *act.Request, list []process) error {
	t := &r.Target
	i := slices.IndexFunc(list, func(p process) bool { return p.pid == t.PID })
	if i < 0 {
		return refuse("there is no process %d on this host", t.PID)
	}
	p := &list[i]
	if t.Start != 0 && t.Start != p.start {
		return refuse(
			"process %d is not the one that was meant: that ended, and another has its number since %s",
			t.PID,
			h.began(p.start).Format("2006-01-02 15:04:05"),
		)
	}
	a.words = fmt.Sprintf("process %d, %s of %s", p.pid, p.comm, h.Users.Name(p.uid))
	a.members = []process{*p}
	if t.Form == act.OfFamily {
		a.members = descendants(list, map[int32]bool{p.pid: true})
		switch n := len(a.members) - 1; n {
		case 0:
			a.words += ", which has no descendants"
		case 1:
			a.words += ", and its descendant"
		default:
			a.words += fmt.Sprintf(", and its %d descendants", n)
		}
	}
	a.identity = append(a.identity, string(t.Form), fmt.Sprint(p.pid, " ", p.start))
	return nil
}

func (h *Host) aimAtProgram(a *aim, r *act.Request, list []process) error {
	uid, known := h.Users.UID(r.Target.User)
	if !known {
		if _, err := fmt.Sscanf(r.Target.User, "uid %d", &uid); err != nil {
			return refuse("this host has no user %q", r.Target.User)
		}
	}
	for i := range list {
		p := &list[i]
		if p.uid == uid && !p.isKernel && (p.comm == r.Target.Program || h.executable(p.pid) == r.Target.Program) {
			a.members = append(a.members, *p)
		}
	}
	if len(a.members) == 0 {
		return refuse("%s runs no %s on this host now", r.Target.User, r.Target.Program)
	}
	a.words = fmt.Sprintf("all %d processes of %s that %s runs", len(a.members), r.Target.Program, r.Target.User)
	a.identity = append(a.identity, "program", r.Target.Program, fmt.Sprint(uid))
	return nil
}

func (h *Host) aimAtWorkload(a *aim, r *act.Request, list []process, known *Known) error {
	w, is := known.Workloads[r.Target.Key]
	if !is {
		return refuse("there is no such workload on this host now: it ended, or another instance of it runs")
	}
	a.workload = &w
	a.identity = append(a.identity, "workload", w.Key, w.Path)
	for i := range list {
		if list[i].workload == w.Key {
			a.members = append(a.members, list[i])
		}
	}
	a.words = fmt.Sprintf("%s %s", w.Kind, w.Name)
	if w.Path == "" {
		return nil
	}
	for key, o := range known.Workloads {
		if key != w.Key && o.Path != "" && within(o.Path, w.Path) {
			a.inner = append(a.inner, o.Name)
			a.keys = append(a.keys, key)
			for i := range list {
				if list[i].workload == key {
					a.members = append(a.members, list[i])
				}
			}
		}
	}
	slices.Sort(a.inner)
	// Who is recognised by itself within the group feels what is done to the group too.
	in := map[string]bool{}
	if g, err := h.anyGroup(a); err == nil {
		a.identity = append(a.identity, fmt.Sprint(g.inode()))
		pids, _ := g.pids()
		for i := range list {
			p := &list[i]
			if _, found := slices.BinarySearch(pids, p.pid); !found {
				continue
			}
			if o := known.Workloads[p.workload]; p.workload != w.Key && o.Path == "" && o.Name != "" {
				in[o.Name] = true
				a.keys = append(a.keys, p.workload)
			}
		}
	}
	a.shared = slices.Sorted(maps.Keys(in))
	return nil
}

// anyGroup is a group of a workload in whatever hierarchy it has one.
func (h *Host) anyGroup(a *aim) (g group, err error) {
	for _, controller := range []string{"cpu", "memory", "freezer", "pids", "cpuset", "blkio", "io"} {
		if g, err = h.groupFor(controller, a); err == nil {
			return g, nil
		}
	}
	return g, err
}

// permit asks this host's policy of all that is touched, and sorts out what is never touched.
func (h *Host) permit(a *aim, r *act.Request, known *Known, whose map[string]string, policy *act.Policy) error {
	a.spare.signIn = a.workload != nil && a.workload.Kind == amount.Session
	for i := range a.members {
		p := &a.members[i]
		if _, is := known.Workloads[p.workload]; is {
			a.keys = append(a.keys, p.workload)
		}
		if why := a.spare.why(p); why != "" {
			a.left = append(a.left, act.Refusal{What: named(p), Why: why})
			continue
		}
		a.hit = append(a.hit, *p)
	}
	if a.workload != nil {
		a.keys = append(a.keys, a.workload.Key)
	}
	slices.Sort(a.keys)
	a.keys = slices.Compact(a.keys)
	if len(a.hit) == 0 && len(a.left) > 0 {
		return refuse("%s is left alone: %s", a.words, a.left[0].Why)
	}
	if len(a.keys) == 0 {
		return refuse("%s is of no workload that this host knows yet: try again in some seconds", a.words)
	}
	for _, key := range a.keys {
		tenant, is := whose[key]
		if !is {
			return refuse(
				"the service does not know %s yet, so it cannot say whose it is: try again in a minute",
				key,
			)
		}
		w := known.Workloads[key]
		touched := act.Touched{Key: key, Name: w.Name, Kind: w.Kind.String(), Tenant: tenant,
			Unit: w.Facts[account.FactUnit]}
		if err := policy.Decide(r.Verb, &touched); err != nil {
			return refuse("%v", err)
		}
		a.touched = append(a.touched, touched)
	}
	return nil
}

// digest makes one word of what tells a target from another.
func digest(identity []string) string {
	sum := sha256.Sum256([]byte(strings.Join(identity, "\x00")))
	return hex.EncodeToString(sum[:8])
}
