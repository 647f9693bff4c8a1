// Package person says what the people of a company may do.
package person

import (
	"fmt"
	"slices"
	"strings"
)

// Role is what a person, or a program with a token, may do.
type Role string

const (
	Anybody  Role = ""         // whoever reaches us, signed in or not
	Viewer   Role = "viewer"   // looks at everything but what is private
	Operator Role = "operator" // works with orders, goods and parcels
	Admin    Role = "admin"    // sets up the company, its connections and its people
)

// Roles are the roles that can be given, from the least to the most that one may do.
var Roles = []Role{Viewer, Operator, Admin}

// Covers tells whether whoever has the role may do what needs another.
func (r Role) Covers(needed Role) bool {
	if needed == Anybody {
		return true
	}
	least := slices.Index(Roles, needed)
	return least >= 0 && slices.Index(Roles, r) >= least
}

// Check refuses a role that there is not.
func (r Role) Check() error {
	if slices.Contains(Roles, r) {
		return nil
	}
	return fmt.Errorf("role %q is none of %s", string(r), List())
}

// List writes the roles as people read them.
func List() string {
	words := make([]string, len(Roles))
	for i, r := range Roles {
		words[i] = string(r)
	}
	return strings.Join(words, ", ")
}
