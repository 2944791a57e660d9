// Package hub is the service's rules: it takes in batches, keeps tenants and rules, answers questions across hosts.
//
// The API above it only decodes, calls and encodes. The hub itself computes nothing: it makes the question with the
// bounds of who asks, has the store answer it, gives that to core/explain where more than sums is wanted, and puts
// names to numbers. Errors are of type Problem where the caller can mend them.
//
// It imports core/..., internal/store, internal/sheet and internal/wire. Start with New; scope in ask.go is where every
// question begins.
package hub
