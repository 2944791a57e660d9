// Package pack makes bytes of the tables of a leaf, and a leaf of such bytes. A section is stored in one piece, which
// holds each column by itself behind an index, so that one measure is read without the rest.
//
// Layout, all numbers as varints: the version, whether the leaf is a sum, the length of the index, the index, the
// columns. The index lists the section's words, its tables by name with their rows, and of each table its columns by
// name, each with the length of its bytes. Tables and columns that a program does not know are passed over, and columns
// that are not there are zero, so that a book of one version is read by the next.
//
// A column is first made small numbers: less the smallest of them, and divided by what divides them all. Then it is cut
// into blocks of the leaf's intervals, so that a block is one workload's series. A block holds its numbers, or their
// differences, less the smallest, in as few bits as the largest needs. What repeats between blocks is left to zstd.
// Columns that follow from others (leaf.Fill) are not stored in leaves of intervals.
//
// It imports core/leaf. Start with Encode and Decode.
package pack
