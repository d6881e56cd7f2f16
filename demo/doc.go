// Package demo is the Tern Isle Ferry Co-operative: a small site on loopback where passengers
// register, confirm their address and sign in, with everything it needs in one process: a
// database file, the worker, and the capture inbox that its letters go to. [Start] runs it;
// [Script] plays fifteen passengers through it as a client.
//
// The site is an application like any other: it uses the library's public calls, and has a
// passengers table of its own.
package demo
