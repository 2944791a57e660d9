// Package amount is the register of what the book counts: measures, their units and how they add up, and the small
// values that every other package counts in (kinds of workload, sources of a figure).
//
// A measure is one entry of the register (register.go). A resource is a measure that has a ledger, in which capacity =
// shares + kernel + idle + residual. Everything else goes by the register: the wire format, the store, questions, the
// network interface, the commands and the console learn of a new entry by itself.
//
// It imports only the standard library. Start with Measure and Entry.
package amount
