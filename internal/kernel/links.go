package kernel

import (
	"vinescale/core/account"
	"vinescale/internal/kernel/netlink"
)

// joinLinks finds who is at the other end of interfaces: the machine of a tap; of a veth pair the workload whose
// network namespace has the other half, or another interface of the host's. The kernel is asked anew where an interface
// or a namespace is new, and now and then.
func (r *Reader) joinLinks(dst *account.Reading) {
	due := r.count%r.options.RecheckEvery == 0
	veths := false
	for i := range dst.Interfaces {
		n := &dst.Interfaces[i]
		n.Workload, n.Peer = account.Unrecognised, ""
		if w, ok := r.net.taps[n.Name]; ok {
			n.Workload = w
		}
		if n.Kind == "veth" || n.Kind == unknownKind {
			veths, due = true, due || !r.net.askedEnds[n.Name]
		}
	}
	if !veths || r.options.Ends == nil && !r.options.Ask {
		return
	}
	for _, ns := range r.net.spaces {
		due = due || !ns.asked
	}
	if due {
		r.askEnds(dst)
	}
	for i := range dst.Interfaces {
		n := &dst.Interfaces[i]
		if kind := r.net.linkEnds.Kinds[n.Name]; n.Kind == unknownKind && kind != "" {
			n.Kind = kind
		}
		if n.Kind != "veth" {
			continue
		}
		n.Peer = r.net.linkEnds.Peers[n.Name]
		if ns := r.net.spaces[r.net.linkEnds.Spaces[n.Name]]; ns != nil && ns.seen == r.count {
			n.Workload = dst.Namespaces[ns.index].Workload
		}
	}
}

// askEnds asks for the other ends, and remembers of what.
func (r *Reader) askEnds(dst *account.Reading) {
	ask := r.options.Ends
	if ask == nil {
		ask = r.pairs
	}
	ends, err := ask()
	if err != nil {
		r.note("the other ends of interfaces", err)
	}
	r.net.linkEnds, r.net.askedEnds = ends, map[string]bool{}
	for i := range dst.Interfaces {
		r.net.askedEnds[dst.Interfaces[i].Name] = true
	}
	for _, ns := range r.net.spaces {
		ns.asked = true
	}
}

// pairs asks the kernel for the other ends, which it tells of the namespace that this process is in only.
func (r *Reader) pairs() (account.LinkEnds, error) {
	if r.net.selfNet != r.net.hostNet {
		return account.LinkEnds{}, nil
	}
	processes := make(map[uint64]int32, len(r.net.spaces))
	for id, ns := range r.net.spaces {
		processes[id] = ns.pid
	}
	return netlink.Pairs(processes)
}
