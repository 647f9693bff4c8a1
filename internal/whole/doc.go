// Package whole tests the program as people meet it: the service on loopback, driven through its
// client and its HTTP interface, the process killed in the middle of things. The console is tested in
// browse, the figures are measured in bench.
package whole
