// Package cpuset holds sets of logical CPUs in the kernel's list format ("0-3,8,10-11").
//
// It imports only the standard library. Start with Parse.
package cpuset
