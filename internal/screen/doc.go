// Package screen draws sheets of figures in a terminal, in place, and lets a person move about in them: choose a page,
// order lines, find, open a line, hold still and look back. It knows nothing of where figures come from: a Source reads
// them. Begin with Run.
package screen
