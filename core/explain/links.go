package explain

import (
	"cmp"
	"slices"

	"vinescale/core/amount"
)

// Links tells of the network of a host: its interfaces, and who moved what. Directions are named from the host's view
// for interfaces, from the workload's for workloads.
type Links struct {
	Over
	Interfaces []LinkLine    `json:"interfaces" doc:"Those that lead off the host first, the busiest first."`
	Workloads  []LinkUser    `json:"workloads" doc:"Most bytes first: at IP level where cgroups are counted."`
	Wire       *LinkTotals   `json:"wire,omitempty" doc:"Of interfaces that lead off the host, with frames."`
	IP         *LinkTotals   `json:"ip,omitempty" doc:"Over the workloads."`
	Residual   *LinkTotals   `json:"residual,omitempty" doc:"Wire less IP: frame headers, and what is of nobody."`
	Missing    []MissingLink `json:"not_counted" doc:"Workloads whose network cannot be told apart."`
	Silent     []string      `json:"hosts_not_recorded" doc:"Hosts of whose network nothing is known."`
	InAll      LinkCounts    `json:"in_all"`
}

// LinkCounts is how many there are of each, listed or not.
type LinkCounts struct {
	Hosts      int            `json:"hosts" doc:"That have told of an interface."`
	Interfaces map[string]int `json:"interfaces" doc:"By host that is listed: all, or those that moved bytes."`
	Workloads  int            `json:"workloads"`
	NotCounted int            `json:"not_counted"`
}

// LinkTotals are bytes per second in both directions, from the host's view.
type LinkTotals struct {
	Received float64 `json:"received_bytes_per_second"`
	Sent     float64 `json:"sent_bytes_per_second"`
}

// LinkLine is one interface, seen from the host.
type LinkLine struct {
	Host          string   `json:"host"`
	Name          string   `json:"name"`
	Kind          string   `json:"kind"`
	LeadsOff      bool     `json:"leads_off" doc:"The host, by itself."`
	LineRate      *float64 `json:"line_rate_bytes_per_second" doc:"In each direction; null where not told."`
	Received      float64  `json:"received_bytes_per_second"`
	Sent          float64  `json:"sent_bytes_per_second"`
	ReceivedPkts  float64  `json:"received_packets_per_second"`
	SentPkts      float64  `json:"sent_packets_per_second"`
	Dropped       int64    `json:"dropped_packets"`
	Errors        int64    `json:"errors"`
	ReceivedShare *float64 `json:"received_share" doc:"Of the line rate, 0 to 1."`
	SentShare     *float64 `json:"sent_share"`
	OtherEnd      *UserRef `json:"other_end,omitempty" doc:"The workload that alone is at its other end."`
	Peer          string   `json:"peer,omitempty" doc:"The interface of this host at its other end."`
}

// LinkUser is a workload's network use, seen from it.
type LinkUser struct {
	UserRef
	Host     string   `json:"host"`
	Received float64  `json:"received_bytes_per_second"`
	Sent     float64  `json:"sent_bytes_per_second"`
	Local    *float64 `json:"local_bytes_per_second" doc:"Over loopback; null where not told apart."`
	Packets  *float64 `json:"packets_per_second" doc:"Both directions; null where packets are not counted."`
	Source   string   `json:"source"`
}

// MissingLink is a workload without a figure.
type MissingLink struct {
	UserRef
	Host string `json:"host"`
}

// ExplainLinks tells of the network of hosts over a span.
func ExplainLinks(over Over, g *Gathering, hosts []Host, names Names) *Links {
	l := &Links{Over: over, Interfaces: []LinkLine{}, Workloads: []LinkUser{}, Missing: []MissingLink{},
		Silent: g.Silent(hosts)}
	if len(l.Silent) == len(hosts) {
		return l
	}
	called := map[int32]string{}
	for _, h := range hosts {
		called[h.ID] = h.Name
	}
	l.Wire, l.IP = &LinkTotals{}, &LinkTotals{}
	for k, n := range g.links {
		seconds := float64(g.elapsed[k.host]) / 1000
		x := LinkLine{
			Host: called[k.host], Name: n.Name, Kind: n.Kind, LeadsOff: !n.Inner,
			Received: float64(n.Received) / seconds, Sent: float64(n.Sent) / seconds,
			ReceivedPkts: float64(n.ReceivedPackets) / seconds, SentPkts: float64(n.SentPackets) / seconds,
			Dropped: n.ReceivedDropped + n.SentDropped, Errors: n.ReceivedErrors + n.SentErrors, Peer: n.Peer,
		}
		if user := g.linkEnds[k]; user.Workload != 0 {
			end := names(user)
			x.OtherEnd = &end
		}
		if n.SpeedBitPerSecond > 0 {
			rate := float64(n.SpeedBitPerSecond) / 8
			in, out := x.Received/rate, x.Sent/rate
			x.LineRate, x.ReceivedShare, x.SentShare = &rate, &in, &out
		}
		if x.LeadsOff {
			l.Wire.Received += x.Received
			l.Wire.Sent += x.Sent
		}
		l.Interfaces = append(l.Interfaces, x)
	}
	slices.SortFunc(l.Interfaces, func(a, b LinkLine) int {
		if a.LeadsOff != b.LeadsOff {
			return map[bool]int{true: -1, false: 1}[a.LeadsOff]
		}
		return cmp.Or(cmp.Compare(b.Received+b.Sent, a.Received+a.Sent), cmp.Compare(a.Host, b.Host),
			cmp.Compare(a.Name, b.Name))
	})
	l.addUsers(g, called, names)
	l.Residual = &LinkTotals{l.Wire.Received - l.IP.Received, l.Wire.Sent - l.IP.Sent}
	return l
}

func (l *Links) addUsers(g *Gathering, called map[int32]string, names Names) {
	for user, f := range g.measures {
		if !f.has.Has(amount.NetworkReceived) {
			l.Missing = append(l.Missing, MissingLink{names(user), called[f.host]})
			continue
		}
		seconds := float64(g.elapsed[f.host]) / 1000
		per := func(m amount.Measure) float64 { return f.units[m].Float() / seconds }
		both := func(in, out amount.Measure) *float64 {
			if !f.has.Has(in) || !f.has.Has(out) {
				return nil
			}
			sum := per(in) + per(out)
			return &sum
		}
		u := LinkUser{
			UserRef: names(user), Host: called[f.host], Received: per(amount.NetworkReceived),
			Sent:    per(amount.NetworkSent),
			Local:   both(amount.NetworkLocalReceived, amount.NetworkLocalSent),
			Packets: both(amount.NetworkPacketsReceived, amount.NetworkPacketsSent),
			Source:  f.source[amount.NetworkReceived].String(),
		}
		l.IP.Received += u.Received
		l.IP.Sent += u.Sent
		l.Workloads = append(l.Workloads, u)
	}
	slices.SortFunc(l.Workloads, func(a, b LinkUser) int {
		return cmp.Or(
			cmp.Compare(b.Received+b.Sent, a.Received+a.Sent),
			cmp.Compare(orLess(b.Local), orLess(a.Local)),
			cmp.Compare(a.ID, b.ID),
		)
	})
	slices.SortFunc(l.Missing, func(a, b MissingLink) int {
		return cmp.Or(cmp.Compare(a.ID, b.ID), cmp.Compare(a.Tenant, b.Tenant))
	})
}

func orLess(v *float64) float64 {
	if v == nil {
		return -1
	}
	return *v
}
