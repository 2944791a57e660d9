// Package explain says what a host's counters of a span mean beside its ledgers: whether storage is the bottleneck and
// who causes it, what memory consists of and who holds it asleep, what went over each network link, where each CPU's
// time went, who ran on pinned CPUs, and how workloads and tenants stand against what they are entitled to.
//
// It is pure: no I/O, no clock, no goroutine. A Gathering adds up leaves; each answer is made from it and from what
// the host is made of. Numbers of workloads and tenants get their names from the caller, by Names.
//
// It imports core/account, core/amount and core/cpuset only. Start with Gathering; testdata/stories tells its behaviour
// as stories.
package explain
