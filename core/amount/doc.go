// Package amount holds the small values everything else counts in: resources, their units, kinds of workload and the
// source of a figure.
//
// It imports only the standard library. Start with Resource.
package amount
