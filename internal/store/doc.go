// Package store keeps challenges, standings and the outbox in SQL. A [Store] is the rooms db, addresses, challenges,
// feedback, limits and queue in one, and what concerns several of them. Packages store/sqlite and store/postgres open
// one.
//
// A store judges nothing and reads no clock: it is given instants and writes what the core has
// decided. What must happen exactly once is one conditional UPDATE. Each transaction of the
// store's own begins with a write, so that SQLite never has to upgrade a reader.
//
// # The order of locks
//
// On PostgreSQL rows are locked in this order, so that no two transactions wait for each other. On SQLite a writer has
// the whole file.
//
//  1. what asks: event, once, fanout_piece, fanout, feedback
//  2. failure: the name of the mailbox, in what begins or ends a sign-in; that of the subject, in what begins or takes
//     back changes of its address, or closes the account
//  3. challenge: the one that the transaction is about
//  4. registration: that of its subject
//  5. browser: those of its subject
//  6. change: its change of address
//  7. challenge: others that end with it
//  8. holder, address
//  9. suppression
//  10. delivery, attempt, ended, item, attachment
//
// Rows of one table are locked by one statement, or sorted (tallies), or found by SKIP LOCKED. Tallies are locked in
// transactions of their own, before the application's.
//
// Three transactions go another way, and meet nobody:
//
//   - A worker locks a delivery that it has claimed, and then the challenge whose lives begin. Others change only those
//     deliveries of a challenge that wait.
//   - A freeze locks a change that was made, and then challenges that are open. A challenge that is being accepted
//     locks a change that is pending.
//   - Making a change takes the old address away, and then takes the holder of the new mailbox. No other subject has
//     that address.
package store
