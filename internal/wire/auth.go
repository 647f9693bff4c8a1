package wire

import "openrelay/internal/core/person"

// Person is who makes a request.
type Person struct {
	Name  string      `json:"name"`
	Email string      `json:"email,omitempty"`
	Role  person.Role `json:"role" enum:"viewer,operator,admin"`
}
