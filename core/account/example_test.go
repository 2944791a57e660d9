package account_test

import (
	"fmt"
	"time"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// Two readings of a host with one CPU make an interval. In ten seconds its only workload used 6 s of CPU time, kernel
// threads used 1 s, the CPU was idle for 2 s, and of the last second nobody knows whose it was.
func Example() {
	reading := func(at, workload, kernel, idle time.Duration) *account.Reading {
		return &account.Reading{
			Boot: "b1", Mono: at, Uptime: at, Wall: time.Date(2026, 10, 11, 3, 0, 0, 0, time.UTC).Add(at),
			CPUs: []account.CPUTimes{{CPU: 0, Idle: idle.Microseconds()}},
			Groups: []account.Group{{ID: 7, Workload: 0, Outer: -1, Has: account.HasCPU,
				CPUMicros: workload.Microseconds()}},
			Processes: []account.Process{{PID: 2, Kernel: true, CPUMicros: kernel.Microseconds()}},
		}
	}
	var tracker account.Tracker
	_, err := tracker.Step(reading(10*time.Second, time.Minute, 0, 0))
	fmt.Println(err)

	interval, err := tracker.Step(reading(20*time.Second, 66*time.Second, time.Second, 2*time.Second))
	if err != nil {
		fmt.Println(err)
		return
	}
	ledger := &interval.Ledgers[amount.CPU]
	for _, line := range []struct {
		name  string
		units int64
	}{{"shares", ledger.Shares}, {"kernel", ledger.Kernel.Units}, {"idle", ledger.Idle.Units},
		{"residual", ledger.Residual.Units}, {"capacity", ledger.Capacity.Units}} {
		fmt.Printf("%-8s %g s\n", line.name, amount.CPU.Amount(float64(line.units), interval.ElapsedMillis))
	}
	fmt.Println(interval.Usages[0].Source[amount.CPU])
	fmt.Println(interval.Ledgers[amount.Disk].Used.Reason)
	// Output:
	// first reading: usage is known from the next one on
	// shares   6 s
	// kernel   1 s
	// idle     2 s
	// residual 1 s
	// capacity 10 s
	// counted
	// this host has no disk
}
