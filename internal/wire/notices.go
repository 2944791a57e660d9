package wire

import (
	"fmt"
	"time"

	"google.golang.org/protobuf/proto"

	"vinescale/core/account"
	"vinescale/core/amount"
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

// DecodeNotices reads notices sent as protobuf and checks that their columns fit together.
func DecodeNotices(body []byte) (*Notices, error) {
	n := &Notices{}
	if err := proto.Unmarshal(body, n); err != nil {
		return nil, fmt.Errorf("the body is no notices: %w", err)
	}
	if err := checkVersion(n.Version); err != nil {
		return nil, err
	}
	t := n.GetWorkloads()
	count := len(t.GetKey())
	if err := sameLength("workloads", count, len(t.GetKind()), len(t.GetName()), len(t.GetOwner()), len(t.GetUid()),
		len(t.GetPath()),
		len(t.GetAllowed()), len(t.GetLabels()), len(t.GetOuter()), len(t.GetRecogniser()), len(t.GetFacts()),
		len(n.EndedMicros)); err != nil {
		return nil, err
	}
	for i, k := range t.GetKey() {
		if k == "" || len(k) > 1024 {
			return nil, fmt.Errorf("workload %d: key %.40q is empty or too long", i, k)
		}
		if _, err := amount.ParseKind(t.Kind[i]); err != nil {
			return nil, fmt.Errorf("workload %d: %w", i, err)
		}
	}
	return n, nil
}
