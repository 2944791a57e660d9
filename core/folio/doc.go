// Package folio holds pages that people compose: what a plate may show, in which forms, and what makes a page whole.
//
// Begin with folio.go for the format in which folios are kept and taken away, and with matter.go for what there is to
// show. How a plate is drawn is the console's.
package folio
