// Package glossary explains every word that a figure, a column or an event comes with, in one place: commands, the
// network interface, the console and the documents take their explanations from here. What the registers of measures
// and of acts say is taken from them; what is a word of the book alone stands here.
//
// Begin with Find, which answers what somebody typed, and Column, which answers the head of a column.
package glossary
