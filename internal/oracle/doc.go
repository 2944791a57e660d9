// Package oracle answers questions about usage naively: from intervals held in memory, by plain loops, without a
// database and without a plan. Tests hold the service to it: whatever a store keeps, and however it sums, its answers
// must be these, to the last unit.
//
// It is deliberately written without a look at how the store does it, and knows of no optimisation. Start with Book.
package oracle
