package account_test

import (
	"fmt"
	"testing"
	"time"

	"vinescale/core/account"
)

// BenchmarkStep differences 5,000 processes in 1,000 workloads. Its floor, measured beside it, is one pass over the
// same readings that only adds up the processes' counters.
func BenchmarkStep(b *testing.B) {
	const processes, workloads = 5000, 1000
	reading := func(n int) *account.Reading {
		at := time.Duration(n) * 5 * time.Second
		r := &account.Reading{Boot: "b", Mono: at, Uptime: at, CPUs: make([]account.CPUTimes, 64)}
		for i := range workloads {
			r.Groups = append(r.Groups, account.Group{ID: uint64(i), Workload: account.WorkloadID(i), Outer: -1,
				Has: account.HasCPU | account.HasMemory, CPUMicros: int64(n * 1000)})
		}
		for i := range processes {
			r.Processes = append(r.Processes, account.Process{PID: int32(i), Start: 1,
				Workload: account.WorkloadID(i % workloads), Program: int32(i % 40), CPUMicros: int64(n * i),
				Threads: 1})
		}
		return r
	}
	readings := make([]*account.Reading, 64)
	for n := range readings {
		readings[n] = reading(n + 1)
	}
	var floor, step time.Duration
	var sink int64
	var tracker account.Tracker
	b.ReportAllocs()
	n := 0
	for b.Loop() {
		if n%len(readings) == 0 {
			tracker = account.Tracker{}
			tracker.Step(readings[0])
			n++
		}
		r := readings[n%len(readings)]
		n++
		start := time.Now()
		for i := range r.Processes {
			sink += r.Processes[i].CPUMicros
		}
		floor += time.Since(start)
		start = time.Now()
		if _, err := tracker.Step(r); err != nil {
			b.Fatal(err)
		}
		step += time.Since(start)
	}
	if sink == 1 {
		fmt.Print()
	}
	b.ReportMetric(float64(step.Nanoseconds())/float64(b.N)/processes, "ns/process")
	b.ReportMetric(float64(step)/float64(floor), "x-floor")
	b.ReportMetric(0, "ns/op")
}
