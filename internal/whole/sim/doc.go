// Package sim runs the relay and all stand-ins in one process on a virtual clock for many simulated days, with
// faults on every edge between them and crashes between any two steps, and then asks the stand-ins what became of
// every sale. The same seed is the same run: one goroutine takes all steps, and chance comes from the seed alone.
package sim
