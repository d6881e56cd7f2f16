// Package store keeps challenges, standings and the outbox in SQL: the schema, its migrations
// and every query. [Store] is the type to read first. Packages store/sqlite and, later, its
// siblings say how to open one.
//
// A store judges nothing and reads no clock: it is given instants and writes what the core has
// decided. What must happen exactly once is one conditional UPDATE. Each transaction of the
// store's own begins with a write, so that SQLite never has to upgrade a reader.
package store
