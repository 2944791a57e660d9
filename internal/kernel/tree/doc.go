// Package tree reads files below a root directory at the least cost: raw system calls relative to an open descriptor,
// into a buffer that is kept. The collector reads some thousand small files every few seconds, so the cost of each
// counts.
//
// Start with Open.
package tree
