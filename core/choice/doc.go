// Package choice holds how a person wants figures shown. What is chosen changes no figure: exports and answers to
// programs keep base units.
package choice
