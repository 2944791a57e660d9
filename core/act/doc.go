// Package act says what an administrator may have done to what runs on a host: the acts and their settings, what they
// are aimed at, what a host shows before and tells afterwards, which a host's own policy allows, and how an order to a
// host is signed.
//
// It is pure. The hub asks and records, internal/carry carries out on the host; both speak in these words.
// Start with Request, and with Entries, the register of acts.
package act
