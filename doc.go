// Package illumicode adds signup confirmation, re-verification and sign-in by code, and the durable
// mail behind them, to a service that has a database and a users table of its own. [Service] is the
// one value an application holds; [New] makes it from a [Config].
//
// The flows begin with [Service.Signup], [Service.SignIn], [Service.ChangeAddress], [Service.StepUp] or,
// for purposes of the application's own, [Tx.Begin]. All are challenges: a letter carries their proof,
// [Service.ResendForBrowser] sends it again, [Service.NotMe] lets its reader end them.
//
// How a letter travels:
//
//  1. [Service.Admit] checks the request, and spends from the limits, before the application's
//     transaction.
//  2. [Tx.BeginSignup] inserts a challenge and a delivery in that transaction: they commit with
//     the account, or not at all. [Service.Signup] is these two in one call.
//  3. A worker ([Service.Run], in this process or another) claims the delivery, makes code and
//     link, composes the letter, and hands it to a provider. Neither code nor link was ever at
//     rest: the code is derived again when it is compared, the link is signed.
//  4. The person proves the address: [Service.ProveLink] checks a link, [Service.Prove] spends a
//     try and compares a code. Both write in transactions of their own, which no rollback of the
//     caller undoes.
//  5. [Tx.Accept] marks the challenge accepted in the application's transaction; of any number of
//     callers, one. [Service.Confirm] and [Service.ConfirmCode] are steps 4 and 5 in one call. For
//     sign-ins they are [Tx.AcceptSignIn] and [Service.SignInCode], for step-ups [Tx.AcceptAction] and
//     [Service.ActionCode].
//  6. What comes back about the letter names its signed return path (Config.ReturnPath):
//     package feedback and web.NewWebhooks put it on record, and a worker suppresses what has bounced,
//     until the address is proven again.
//
// Illumicode owns no accounts: a subject is whatever string the application knows one by.
// Nothing is ever sent inside a transaction.
package illumicode
