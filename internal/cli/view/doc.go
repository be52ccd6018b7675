// Package view is how things are shown: JSON documents, rows of tables, words, sizes, days, quoting.
// Everything here is pure: values in, text or documents out.
package view
