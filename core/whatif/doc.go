// Package whatif plays what was recorded again with other limits, pins, weights or hosts, and advises on sizes. It
// tells no more than the record knows: what a limit would have done within a step is not known, and so delays are told
// as bounds.
//
// Start with Limit and Pins, and with Advise.
package whatif
