// Package core holds the computation of the relay: amounts, addresses, stock, orders, freight,
// picking. Everything below it is a pure function of its arguments. It performs no I/O, reads no
// clock and keeps no state between calls; the time, where it matters, is an argument.
package core
