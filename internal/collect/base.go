package collect

import (
	"bytes"
	"encoding/gob"
	"errors"
	"fmt"
	"time"

	"vinescale/core/account"
	"vinescale/internal/wire"
)

// base is the last reading of a collector, as far as the next one can compare its own with it: it is written down at
// every tick, and after a restart within one boot tells what was used meanwhile.
type base struct {
	Ends uint64 // the sequence of the interval that ends with it

	Boot       string
	Wall       time.Time
	Uptime     time.Duration
	CPUs       []account.CPUTimes
	Disks      []account.Disk
	Interfaces []account.Interface
	Pressure   []account.Pressure
	Spaces     []account.Namespace
	Meters     []account.Meter
	GPUs       []account.GPU
	GPUClients []account.GPUClient
	IdleGPUs   map[string]time.Time // since when GPUs have had no work

	Groups    []baseGroup
	PIDs      []int32 // of processes, by columns, for there are thousands
	Starts    []int64
	CPUMicros []int64
	DiskBytes []int64
	ReadBytes []int64
}

type baseGroup struct {
	ID        uint64
	Has       account.Has
	CPUMicros int64
	PerCPU    []int64
	DiskBytes int64
	Devices   []account.DeviceIO
}

// encode writes a reading as a base.
func (b *base) encode(r *account.Reading, ends uint64) ([]byte, error) {
	*b = base{Ends: ends, Boot: r.Boot, Wall: r.Wall, Uptime: r.Uptime, CPUs: r.CPUs, Disks: r.Disks,
		Interfaces: r.Interfaces, Pressure: r.Pressure, Spaces: r.Namespaces, Meters: r.Meters,
		GPUs: r.GPUs, GPUClients: r.GPUClients, IdleGPUs: b.IdleGPUs,
		Groups: b.Groups[:0], PIDs: b.PIDs[:0],
		Starts: b.Starts[:0], CPUMicros: b.CPUMicros[:0], DiskBytes: b.DiskBytes[:0], ReadBytes: b.ReadBytes[:0]}
	for i := range r.Groups {
		g := &r.Groups[i]
		if has := g.Has &^ g.Own; has != 0 {
			kept := baseGroup{ID: g.ID, Has: has, CPUMicros: g.CPUMicros}
			if has&account.HasPerCPU != 0 {
				kept.PerCPU = g.PerCPU
			}
			if has&account.HasDisk != 0 {
				kept.DiskBytes, kept.Devices = g.DiskBytes, g.Devices
			}
			b.Groups = append(b.Groups, kept)
		}
	}
	for i := range r.Processes {
		p := &r.Processes[i]
		b.PIDs, b.Starts = append(b.PIDs, p.PID), append(b.Starts, p.Start)
		b.CPUMicros, b.DiskBytes = append(b.CPUMicros, p.CPUMicros), append(b.DiskBytes, p.DiskBytes)
		b.ReadBytes = append(b.ReadBytes, p.ReadBytes)
	}
	var out bytes.Buffer
	if err := gob.NewEncoder(&out).Encode(b); err != nil {
		return nil, fmt.Errorf("encode the last reading: %w", err)
	}
	return out.Bytes(), nil
}

// decodeBase reads what encode wrote.
func decodeBase(content []byte) (*base, error) {
	b := &base{}
	if err := gob.NewDecoder(bytes.NewReader(content)).Decode(b); err != nil {
		return nil, fmt.Errorf("read a collector's last reading: %w", err)
	}
	n := len(b.PIDs)
	if len(b.Starts) != n || len(b.CPUMicros) != n || len(b.DiskBytes) != n || len(b.ReadBytes) != n {
		return nil, errors.New("read a collector's last reading: its columns differ in length")
	}
	return b, nil
}

// reading is the base as a reading to compare with.
func (b *base) reading() *account.Reading {
	r := &account.Reading{Boot: b.Boot, Wall: b.Wall, Uptime: b.Uptime, CPUs: b.CPUs, Disks: b.Disks,
		Interfaces: b.Interfaces, Pressure: b.Pressure, Namespaces: b.Spaces, Meters: b.Meters,
		GPUs: b.GPUs, GPUClients: b.GPUClients}
	for _, g := range b.Groups {
		r.Groups = append(r.Groups, account.Group{ID: g.ID, Outer: -1, Has: g.Has, CPUMicros: g.CPUMicros,
			PerCPU: g.PerCPU, DiskBytes: g.DiskBytes, Devices: g.Devices})
	}
	for i := range b.PIDs {
		r.Processes = append(r.Processes, account.Process{PID: b.PIDs[i], Start: b.Starts[i],
			CPUMicros: b.CPUMicros[i], DiskBytes: b.DiskBytes[i], ReadBytes: b.ReadBytes[i]})
	}
	return r
}

// keepBase writes down a reading before what is kept of the interval that ends with it; shiftBase, once that is kept,
// puts it in the place of the one before. A collector that is killed between the two leaves both, and which one fits is
// told by the interval.
func (c *Collector) keepBase(r *account.Reading, ends uint64) error {
	content, err := c.base.encode(r, ends)
	if err != nil {
		return err
	}
	return c.Spool.NextBase(content)
}

// foundBase is the base that fits what the spool had of an unfinished interval; nil where there is none.
func (c *Collector) foundBase(unfinished uint64) (fits *base) {
	found, err := c.Spool.Bases()
	for _, content := range found {
		var b *base
		if b, err = decodeBase(content); err == nil && (unfinished == 0 || unfinished == b.Ends) {
			fits = b
		}
	}
	if err != nil {
		c.Log.Warn("what was used while no collector ran is not known", "host", c.Host, "error", err)
	}
	return fits
}

// begin starts from the first reading, which nothing of this collector is compared with. What was used between the
// base that was found and it is told as one interval.
func (c *Collector) begin(r *account.Reading) {
	b := c.found
	c.found = nil
	if b != nil && b.Boot == r.Boot && b.IdleGPUs != nil {
		c.base.IdleGPUs = b.IdleGPUs
	}
	err := c.bridge(b, r)
	if err == nil {
		err = c.keepBase(r, c.sequence)
	}
	if err == nil {
		err = c.Spool.ShiftBase()
	}
	if err != nil {
		c.Log.Warn("what was used while no collector ran could not be kept", "host", c.Host, "error", err)
	}
}

func (c *Collector) bridge(b *base, r *account.Reading) error {
	if b == nil || r.Uptime-b.Uptime > account.MostBridged {
		return nil
	}
	iv, err := account.Bridge(b.reading(), r)
	if err != nil {
		return nil // the host started anew, or no time passed
	}
	c.open = iv
	var batch []byte
	c.sequence, batch, err = c.encode(func(*wire.Interval) {})
	c.open = nil
	if err != nil {
		return err
	}
	c.Log.Info("no collector ran for a while: what was used meanwhile is how much the host's counters grew", "host",
		c.Host, "from", iv.From, "to", iv.To)
	if err := c.Spool.Put(c.sequence, batch); err != nil {
		return err
	}
	c.wakeSender()
	return nil
}
