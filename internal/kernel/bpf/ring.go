package bpf

import (
	"errors"
	"fmt"
	"os"
	"time"

	"github.com/cilium/ebpf"
	"github.com/cilium/ebpf/ringbuf"
)

// ring reads the records that programs leave in a ring.
type ring struct {
	*ringbuf.Reader
	of     *ebpf.Map
	record ringbuf.Record
}

func openRing(m *ebpf.Map) (*ring, error) {
	r, err := ringbuf.NewReader(m)
	if err != nil {
		return nil, fmt.Errorf("open the ring of %s: %w", m, err)
	}
	r.SetDeadline(time.Unix(1, 0)) // what is there is read, nothing is waited for
	return &ring{Reader: r, of: m}, nil
}

// each visits the records there are. One is valid until the next.
func (r *ring) each(visit func([]byte)) error {
	for {
		switch err := r.ReadInto(&r.record); {
		case errors.Is(err, os.ErrDeadlineExceeded):
			return nil
		case err != nil:
			return fmt.Errorf("read the ring of %s: %w", r.of, err)
		}
		visit(r.record.RawSample)
	}
}
