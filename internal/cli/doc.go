// Package cli holds the commands. Each command is a file: its flags, its call, its output.
//
// Listings go through print.go (table, csv, json, jsonl); a ledger's table is in book.go. Exit codes: 0 fine, 1 error,
// 2 usage, 3 the asked-for condition is true. It imports everything below; nothing imports it but cmd/vinescale.
// Start with Run.
package cli
