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
	if n == 0 {
		return "NULL"
	}
	return "?" + strings.Repeat(",?", n-1)
}

func anys[T any](in []T) []any {
	out := make([]any, len(in))
	for i, v := range in {
		out[i] = v
	}
	return out
}
