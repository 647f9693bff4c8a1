// Package wire has the shapes of what goes over the HTTP interface, as api answers it, client reads it and the console is
// given it by the description (OpenAPI). It decides nothing. Where a room has a value that goes out as it is, that value
// is used instead.
package wire
