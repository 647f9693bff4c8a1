// Package whole tests the program as people meet it: the service on loopback, driven through its
// client and its HTTP interface, the console in a browser, the process killed in the middle of things.
package whole
