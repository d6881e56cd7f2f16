// Package db has what the rooms of the store are built of. It opens transactions of every kind, says a query in the
// words of each database, reads and writes rows by the names of their columns, and keeps the schema.
//
// A query is SQL that both databases take, with "?" for parameters. Where they differ, it calls one of the functions of
// [Words]: @name(argument). A table of ours is @name. Nothing else in a query is changed, and nothing inside a literal.
package db
