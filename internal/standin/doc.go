// Package standin simulates the outside world on one machine: web stores, carriers. Each stand-in
// speaks its own dialect and keeps its own books in memory. The package imports nothing of the relay,
// and the relay knows the stand-ins only through connector definitions, as it would know real systems.
//
// Every stand-in has a control page (/control) and a control API (/control/api/…) by which people and
// tests make orders, edit stock and switch faults on.
package standin
