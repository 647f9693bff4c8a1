// Package connector teaches the relay to speak to outside systems. A definition (YAML with CEL
// expressions, specified in docs/connectors.md) says how one kind of system lets us in, how its
// records are read, pushed and paged, how they become messages of ours and back, and how a write is
// confirmed. The package loads and checks definitions and carries out single calls; when to call,
// what to keep and when to try again is the relay's business.
package connector
