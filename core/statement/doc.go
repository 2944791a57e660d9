// Package statement makes the accounts of calendar windows: what each tenant had of every resource, what that costs by
// a tariff, and what is nobody's. The sum of the statements of a window is the ledger of its hosts, to the last unit.
//
// Start with Draw, which makes the Account of a window; Correct adds to it what has changed in windows before.
package statement
