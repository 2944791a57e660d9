package wire

import (
	"bytes"
	"errors"
	"fmt"
	"mime"
	"time"

	"github.com/klauspost/compress/zstd"
	"google.golang.org/protobuf/encoding/protojson"
	"google.golang.org/protobuf/proto"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// Media types a batch may come in.
const (
	TypeProtobuf = "application/x-protobuf"
	TypeJSON     = "application/json"
)

// encoder has a small window: an interval is some tens of kilobytes, and the usual one takes 16 MB beside what is
// measured.
var encoder = func() *zstd.Encoder {
	e, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(256<<10),
		zstd.WithLowerEncoderMem(true))
	if err != nil {
		panic(err) // the options are sound
	}
	e.EncodeAll(nil, nil) // makes all that it holds now, and not in the first test that uses it
	return e
}()

// Encode is a batch as zstd-compressed protobuf.
func Encode(b *Batch) ([]byte, error) {
	raw, err := Plain(b)
	if err != nil {
		return nil, err
	}
	return encoder.EncodeAll(raw, nil), nil
}

// Pack is processes as they are stored: zstd-compressed protobuf.
func (p *Processes) Pack() ([]byte, error) {
	raw, err := proto.Marshal(p)
	if err != nil {
		return nil, fmt.Errorf("encode processes: %w", err)
	}
	return encoder.EncodeAll(raw, nil), nil
}

// UnpackProcesses undoes Pack. The columns fit together: they were checked when they were sent.
func UnpackProcesses(packed []byte) (*Processes, error) {
	raw, err := decompress(packed, MaxBody) // however little it took: it was bounded when it came
	if err != nil {
		return nil, err
	}
	p := &Processes{}
	return p, proto.Unmarshal(raw, p)
}

// Plain is a batch as protobuf, not compressed.
func Plain(b *Batch) ([]byte, error) {
	raw, err := proto.Marshal(b)
	if err != nil {
		return nil, fmt.Errorf("encode batch: %w", err)
	}
	return raw, nil
}

// Decode reads a batch and checks that its columns fit together. Errors are the sender's to mend and say where.
func Decode(body []byte, contentType, contentEncoding string) (*Batch, error) {
	switch contentEncoding {
	case "", "identity":
	case "zstd":
		var err error
		if body, err = decompress(body, min(MaxBody, freeBytes+mostExpansion*len(body))); err != nil {
			return nil, err
		}
	default:
		return nil, fmt.Errorf("content encoding %q is not known: send zstd or none", contentEncoding)
	}
	b := &Batch{}
	media, _, err := mime.ParseMediaType(contentType)
	if err != nil {
		return nil, fmt.Errorf("content type %q: %w", contentType, err)
	}
	switch media {
	case TypeProtobuf:
		if err := checkCount(body, b); err != nil {
			return nil, err
		}
		err = proto.Unmarshal(body, b)
	case TypeJSON:
		if most := freeMessages + len(body)/bytesPerMessage; bytes.Count(body, []byte{'{'}) > most {
			return nil, fmt.Errorf("the body holds more than %d objects, which is too many for its %d bytes", most,
				len(body))
		}
		err = protojson.UnmarshalOptions{DiscardUnknown: true}.Unmarshal(body, b) // a newer collector may tell more
	default:
		return nil, fmt.Errorf("content type %q is not known: send %s or %s", media, TypeProtobuf, TypeJSON)
	}
	if err != nil {
		return nil, fmt.Errorf("the body is not a batch: %w", err)
	}
	if b.Version == 1 {
		for _, iv := range b.Intervals {
			iv.upgrade()
		}
	}
	return b, b.check()
}

// ErrNewer says that a message is of a version newer than this program knows. It is sound as far as can be told, so
// its holder keeps it until a newer program can read it.
var ErrNewer = errors.New("it is of a newer version than this program knows")

func checkVersion(v uint32) error {
	switch {
	case v > Version:
		return fmt.Errorf("version %d: %w (up to %d)", v, ErrNewer, Version)
	case v < 1:
		return fmt.Errorf("version %d is not known here: versions 1 to %d are taken", v, Version)
	}
	return nil
}

func (b *Batch) check() error {
	if err := checkVersion(b.Version); err != nil {
		return err
	}
	if b.Host == "" {
		return fmt.Errorf("the batch names no host")
	}
	if len(b.Intervals) == 0 {
		return fmt.Errorf("the batch holds no interval")
	}
	if len(b.Intervals) > mostIntervals {
		return fmt.Errorf("intervals: %d are more than %d: send fewer at once", len(b.Intervals), mostIntervals)
	}
	f := &faults{}
	if f.text("host", b.Host, mostName); f.err != nil {
		return f.err
	}
	for i, iv := range b.Intervals {
		if err := iv.check(); err != nil {
			return fmt.Errorf("intervals[%d].%w", i, err)
		}
	}
	return nil
}

// Describer tells what ids of an interval stand for; identify.Registry is one.
type Describer interface {
	Workload(account.WorkloadID) account.Workload
	ProgramName(int32) string
}

// FromInterval makes the message of one closed interval.
func FromInterval(iv *account.Interval, sequence uint64, mode string, d Describer) *Interval {
	m := &Interval{
		Boot: iv.Boot, Sequence: sequence, FromUnixMicros: iv.From.UnixMicro(),
		ToUnixMicros:  iv.From.UnixMicro() + iv.ElapsedMillis*1000, // whatever the host's clock was set to meanwhile
		ElapsedMillis: iv.ElapsedMillis, Ticks: uint32(iv.Ticks), Cpus: uint32(iv.CPUCount), CgroupMode: mode,
		Workloads: &Workloads{}, Programs: &Programs{}, CpuUse: &CpuUse{}, Parts: &Parts{},
		Detail: fromDetail(&iv.Detail), Figures: fromFigures(iv),
	}
	for _, r := range amount.Resources() {
		l := &iv.Ledgers[r]
		m.Ledgers = append(m.Ledgers, &Ledger{
			Resource: r.String(), Capacity: fromLine(l.Capacity), Used: fromLine(l.Used), Idle: fromLine(l.Idle),
			Kernel: fromLine(l.Kernel),
			Steal:  fromLine(l.Steal),
		})
		m.Usages = append(m.Usages, &Usage{Resource: r.String()})
		m.Programs.Columns = append(m.Programs.Columns, &ProgramUse{Resource: r.String()})
	}
	m.makeRoom(iv)
	programs := map[int32]int32{account.NoProgram: -1}
	for i := range iv.Usages {
		u := &iv.Usages[i]
		m.addWorkload(d.Workload(u.Workload), u)
		for _, p := range u.Programs {
			k, ok := programs[p.Program]
			if !ok {
				k = int32(len(m.Programs.Names))
				programs[p.Program] = k
				m.Programs.Names = append(m.Programs.Names, clip(d.ProgramName(p.Program), mostName))
			}
			m.addProgram(i, k, p)
			f, ok := programs[p.Family]
			if !ok {
				f = int32(len(m.Programs.Names))
				programs[p.Family] = f
				m.Programs.Names = append(m.Programs.Names, clip(d.ProgramName(p.Family), mostName))
			}
			m.Programs.Family = append(m.Programs.Family, f)
		}
		for _, p := range u.Parts {
			m.Parts.Workload = append(m.Parts.Workload, uint32(i))
			m.Parts.Name = append(m.Parts.Name, clip(d.ProgramName(p.Part), mostName))
			m.Parts.Micros = append(m.Parts.Micros, p.Micros)
		}
		for _, c := range u.CPUs {
			m.CpuUse.Workload = append(m.CpuUse.Workload, uint32(i))
			m.CpuUse.Cpu = append(m.CpuUse.Cpu, uint32(c.CPU))
			m.CpuUse.Micros = append(m.CpuUse.Micros, c.Micros)
		}
		m.CpuUse.Source = append(m.CpuUse.Source, uint32(u.CPUSource))
	}
	return m
}

// makeRoom makes room for what an interval holds of its workloads: a collector makes such a message at every tick, and
// columns that grow leave several times their size behind.
func (m *Interval) makeRoom(iv *account.Interval) {
	n, programs, cpus := len(iv.Usages), 0, 0
	for i := range iv.Usages {
		programs, cpus = programs+len(iv.Usages[i].Programs), cpus+len(iv.Usages[i].CPUs)
	}
	w, p, c := m.Workloads, m.Programs, m.CpuUse
	for _, texts := range []*[]string{&w.Key, &w.Kind, &w.Name, &w.Owner, &w.Path, &w.Allowed, &w.Outer,
		&w.Recogniser} {
		*texts = make([]string, 0, n)
	}
	w.Labels, w.Facts = make([]*Labels, 0, n), make([]*Labels, 0, n)
	w.Uid, w.RunnableMillis = make([]int64, 0, n), make([]int64, 0, n)
	w.Threads, w.Processes, w.RunnablePeak = make([]int32, 0, n), make([]int32, 0, n), make([]int32, 0, n)
	for _, u := range m.Usages {
		u.Units, u.Peak, u.Source = make([]int64, 0, n), make([]int64, 0, n), make([]uint32, 0, n)
	}
	p.Workload, p.Program = make([]uint32, 0, programs), make([]int32, 0, programs)
	p.Family, p.Processes = make([]int32, 0, programs), make([]int32, 0, programs)
	for _, x := range p.Columns {
		x.Units = make([]int64, 0, programs)
	}
	c.Workload, c.Cpu, c.Micros = make([]uint32, 0, cpus), make([]uint32, 0, cpus), make([]int64, 0, cpus)
	c.Source = make([]uint32, 0, n)
}

func fromLine(l account.Line) *Line { return &Line{Units: l.Units, Unavailable: l.Reason} }

// ToLine is the ledger's line a message holds.
func (l *Line) ToLine() account.Line {
	if l.GetUnavailable() != "" {
		return account.Line{Reason: l.GetUnavailable()}
	}
	return account.Line{Units: l.GetUnits()}
}

func (m *Interval) addWorkload(w account.Workload, u *account.Usage) {
	t := m.Workloads
	t.add(&w)
	t.Threads = append(t.Threads, u.Threads)
	t.Processes = append(t.Processes, u.Procs)
	t.RunnableMillis = append(t.RunnableMillis, u.RunnableMillis)
	t.RunnablePeak = append(t.RunnablePeak, u.RunnablePeak)
	for r := range m.Usages {
		c := m.Usages[r]
		c.Units = append(c.Units, u.Units[r])
		c.Peak = append(c.Peak, u.Peak[r])
		c.Source = append(c.Source, uint32(u.Source[r]))
	}
}

func (t *Workloads) add(w *account.Workload) {
	t.Key = append(t.Key, clip(w.Key, mostName))
	t.Kind = append(t.Kind, w.Kind.String())
	t.Name = append(t.Name, clip(w.Name, mostName))
	t.Owner = append(t.Owner, clip(w.Owner, mostName))
	t.Uid = append(t.Uid, w.UID)
	t.Path = append(t.Path, clip(w.Path, mostText))
	t.Allowed = append(t.Allowed, clip(w.Allowed, mostCPUList))
	t.Labels = append(t.Labels, &Labels{Values: clipAll(w.Labels)})
	t.Outer = append(t.Outer, clip(w.Outer, mostName))
	t.Recogniser = append(t.Recogniser, w.Recogniser)
	t.Facts = append(t.Facts, &Labels{Values: clipAll(w.Facts)})
}

// At is the identity of the i-th workload of the table. Its kind was checked when the batch was decoded.
func (t *Workloads) At(i int) account.Workload {
	w := account.Workload{
		Key: t.Key[i], Name: t.Name[i], Owner: t.Owner[i], UID: t.Uid[i], Path: t.Path[i],
		Labels: t.Labels[i].GetValues(), Allowed: t.Allowed[i],
	}
	w.Kind, _ = amount.ParseKind(t.Kind[i])
	if len(t.Outer) > 0 {
		w.Outer = t.Outer[i]
	}
	if len(t.Recogniser) > 0 {
		w.Recogniser = t.Recogniser[i]
	}
	if len(t.Facts) > 0 {
		w.Facts = t.Facts[i].GetValues()
	}
	return w
}

// AddProcesses puts into the message the processes that run at its end. Those of workloads that are not in it are left
// out.
func (m *Interval) AddProcesses(iv *account.Interval, processes []account.ProcessUse, over time.Duration, d Describer) {
	t := &Processes{OverMillis: over.Milliseconds()}
	m.Processes = t
	index := make(map[account.WorkloadID]uint32, len(iv.Usages))
	for i := range iv.Usages {
		index[iv.Usages[i].Workload] = uint32(i)
	}
	programs := map[int32]uint32{}
	for i := range processes {
		p := &processes[i]
		w, ok := index[p.Workload]
		if !ok {
			continue
		}
		k, ok := programs[p.Program]
		if !ok {
			k = uint32(len(t.Names))
			programs[p.Program] = k
			t.Names = append(t.Names, clip(d.ProgramName(p.Program), mostName))
		}
		t.Workload = append(t.Workload, w)
		t.Pid = append(t.Pid, p.PID)
		t.Parent = append(t.Parent, p.Parent)
		t.Program = append(t.Program, k)
		t.Uid = append(t.Uid, p.UID)
		t.Threads = append(t.Threads, p.Threads)
		t.Runnable = append(t.Runnable, p.Runnable)
		t.LastCpu = append(t.LastCpu, p.LastCPU)
		t.CpuMicros = append(t.CpuMicros, p.Micros)
		t.MemoryBytes = append(t.MemoryBytes, p.AnonBytes)
		t.DiskBytes = append(t.DiskBytes, p.Bytes)
	}
}

func (m *Interval) addProgram(workload int, program int32, p account.ProgramUse) {
	t := m.Programs
	t.Workload = append(t.Workload, uint32(workload))
	t.Program = append(t.Program, program)
	t.Processes = append(t.Processes, p.Procs)
	for r, c := range t.Columns {
		c.Units = append(c.Units, p.Units[r])
	}
}

func fromDetail(d *account.Detail) *Detail {
	m := &Detail{Load: d.Load, SwapTotalBytes: d.SwapTotal, SwapUsedBytes: d.SwapUsed,
		MemoryAvailableBytes: d.MemoryAvailable}
	for _, c := range d.CPUs {
		m.Cpu = append(m.Cpu, uint32(c.CPU))
		m.User = append(m.User, c.User)
		m.Nice = append(m.Nice, c.Nice)
		m.System = append(m.System, c.System)
		m.Idle = append(m.Idle, c.Idle)
		m.Iowait = append(m.Iowait, c.IOWait)
		m.Irq = append(m.Irq, c.IRQ)
		m.Softirq = append(m.Softirq, c.SoftIRQ)
		m.Steal = append(m.Steal, c.Steal)
	}
	for c := range account.NumCaveats {
		if n := d.Caveats[c]; n > 0 {
			m.Caveat, m.CaveatAmount = append(m.Caveat, c.String()), append(m.CaveatAmount, n)
		}
	}
	for _, p := range d.Pressure {
		m.Pressure = append(m.Pressure, p.Resource)
		m.PressureSomeMicros = append(m.PressureSomeMicros, p.Some)
		m.PressureFullMicros = append(m.PressureFullMicros, p.Full)
	}
	return m
}
