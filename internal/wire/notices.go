package wire

import (
	"fmt"
	"time"

	"google.golang.org/protobuf/proto"

	"vinescale/core/account"
)

// NewNotices begins news of a host's workloads; due is when the interval that will hold their first usage closes.
func NewNotices(host, boot string, at, due time.Time) *Notices {
	return &Notices{Version: Version, Host: host, Boot: boot, AtUnixMicros: at.UnixMicro(),
		DueUnixMicros: due.UnixMicro(), Workloads: &Workloads{}}
}

// Add tells of a workload; ended is zero where it still runs.
func (n *Notices) Add(w account.Workload, ended time.Time) {
	n.Workloads.add(&w)
	micros := int64(0)
	if !ended.IsZero() {
		micros = ended.UnixMicro()
	}
	n.EndedMicros = append(n.EndedMicros, micros)
}

// NoticesOf is news of some workloads of an interval, by their places in it.
func NoticesOf(host string, iv *Interval, places []int) *Notices {
	at := time.UnixMicro(iv.FromUnixMicros)
	n := NewNotices(host, iv.Boot, at, at.Truncate(time.Minute).Add(time.Minute))
	for _, i := range places {
		n.Add(iv.Workloads.At(i), time.Time{})
	}
	return n
}

// DecodeNotices reads notices sent as protobuf and checks that their columns fit together.
func DecodeNotices(body []byte) (*Notices, error) {
	n := &Notices{}
	if err := checkCount(body, n); err != nil {
		return nil, err
	}
	if err := proto.Unmarshal(body, n); err != nil {
		return nil, fmt.Errorf("the body is no notices: %w", err)
	}
	if err := checkVersion(n.Version); err != nil {
		return nil, err
	}
	f := &faults{}
	f.text("host", n.Host, mostName)
	f.text("boot", n.Boot, mostName)
	f.number("at_unix_micros", n.AtUnixMicros, earliestMicros, latestMicros)
	f.number("due_unix_micros", n.DueUnixMicros, earliestMicros, latestMicros)
	for i, at := range n.EndedMicros {
		if at != 0 {
			f.number(fmt.Sprintf("ended_micros[%d]", i), at, earliestMicros, latestMicros)
		}
	}
	t := n.GetWorkloads()
	t.check(f, "workloads")
	f.rows("ended_micros", len(t.GetKey()), mostWorkloads, len(n.EndedMicros))
	if len(t.GetKey()) > 0 {
		f.rows("workloads", len(t.Key), mostWorkloads, len(t.Outer), len(t.Recogniser), len(t.Facts))
	}
	if f.err != nil {
		return nil, f.err
	}
	return n, nil
}
