// Package account turns readings of counters into intervals whose ledger balances.
//
// It is pure: no I/O, no clock, no goroutine. A Tracker is given one Reading after another and returns, from the second
// on, the Interval between the last two: what every workload used, what the kernel used, what stood idle, and the
// residual that no one can be charged with. Intervals add up (Interval.Add), so a minute is the sum of its ticks.
//
// All amounts are whole numbers of account units (see amount.Resource), so that every sum is exact:
//
//	capacity = sum of shares + kernel + idle + steal + residual
//
// It imports core/amount and core/cpuset only. Start with Tracker.Step; testdata/stories tells its behaviour as
// stories.
package account
