// Package leaf is how the book holds what was counted on one host: a leaf has the tables of one interval, of several
// intervals, or of their exact sum over an hour or a day.
//
// The book binds the intervals of an hour into a quire, which is a leaf of many intervals, and so the sums of a day's
// hours.
//
// A table has columns of whole numbers. Each column says how its values combine when rows of one key are added up, so
// that Fold makes the sum of any intervals, and the sum of such sums, without knowing what they are about. Adding up in
// parts and adding up at once give the same leaf: nothing is lost but when within the stretch it was.
//
// Rows name workloads by a slot. The table Who says which workload a slot is and to whom it was accounted at each
// interval, so that a change of whose usage was touches that table alone.
//
// The package is pure. It imports core/amount and core/question. Start with Leaf and Fold; Schema lists the tables.
package leaf
