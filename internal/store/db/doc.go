// Package db is what the rooms of the store are built of: an open database, transactions of every kind, queries that
// are written once and said in the words of each database, rows by the names of their columns, and the schema.
//
// A query is SQL that both databases take, with "?" for parameters. What they say differently is a call of one of the
// functions of [Words], written @name(argument); a table of ours is @name. Nothing else in a query is changed, and
// nothing at all inside a literal.
package db
