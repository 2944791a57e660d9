// Package hub is the service's rules: it takes in batches, keeps tenants and rules, answers questions across hosts.
//
// The API above it only decodes, calls and encodes. Errors are of type Problem where the caller can mend them.
// It imports core/..., internal/store, internal/sheet and internal/wire. Start with New.
package hub
