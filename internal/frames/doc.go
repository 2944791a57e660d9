// Package frames holds the live frames of hosts: what each tick counted, for a quarter of an hour, in memory alone.
//
// A frame is kept as it came, which is small, and is laid out as a leaf when it is asked for: most frames never are.
// Start with Hold.
package frames
