package store

import (
	"reflect"
	"strings"

	"github.com/jmoiron/sqlx/reflectx"
)

var mapper = reflectx.NewMapperFunc("db", strings.ToLower)

func isStruct(dest any) bool {
	return reflect.TypeOf(dest).Elem().Kind() == reflect.Struct
}

func placeholders(n int) string {
	return "?" + strings.Repeat(",?", n-1)
}

// list makes the placeholders and arguments of an IN list. Its length is rounded up to a power of two
// by repeating the last value, so that few different statements are prepared.
func list[T any](in []T) (string, []any) {
	if len(in) == 0 {
		return "''", nil // equal to no id and no name; NULL would make NOT IN unknown
	}
	n := 1
	for n < len(in) {
		n *= 2
	}
	out := make([]any, n)
	for i := range out {
		out[i] = in[min(i, len(in)-1)]
	}
	return placeholders(n), out
}

// splitUnit parts what was joined by the unit separator.
func splitUnit(s string) []string { return strings.Split(s, "\x1f") }

// firstOf is the first of a list that was looked up; ErrNotFound where it is empty.
func firstOf[T any](list []T, err error) (one T, _ error) {
	switch {
	case err != nil:
		return one, err
	case len(list) == 0:
		return one, ErrNotFound
	}
	return list[0], nil
}
