// Package person says what the people of a company may do.
package person

import (
	"fmt"
	"slices"
	"strings"
)

// Role is what a person, or a program with a token, is at the company: a set of permissions under a name.
type Role string

const (
	Viewer     Role = "viewer"     // looks at everything but what is private
	Driver     Role = "driver"     // brings orders to buyers
	Packer     Role = "packer"     // picks, packs and ships, and keeps the stock
	Bookkeeper Role = "bookkeeper" // keeps the books
	Clerk      Role = "clerk"      // works with orders, goods and parcels
	Lead       Role = "lead"       // sets up the company, its connections and its people
)

// Roles are the roles that can be given.
var Roles = []Role{Viewer, Driver, Packer, Bookkeeper, Clerk, Lead}

// granted is the matrix of who may do what. Nobody may do anything that is not written here.
var granted = map[Role]Permission{
	Viewer:     Own | Look,
	Driver:     Own | Look | SeeBuyers | HandOver,
	Packer:     Own | Look | SeeBuyers | HandOver | Ship | KeepStock,
	Bookkeeper: Own | Look | SeeBuyers | KeepBooks,
	Clerk:      Own | Look | SeeBuyers | HandOver | Ship | KeepStock | WorkOrders | BuyGoods | KeepCatalog | RunFeeds,
	Lead: Own | Look | SeeBuyers | HandOver | Ship | KeepStock | WorkOrders | BuyGoods | KeepCatalog | RunFeeds | KeepBooks |
		SetUp | ManagePeople | GuardPrivacy,
}

// May tells whether whoever has the role has any of the permissions.
func (r Role) May(any Permission) bool { return granted[r]&any != 0 }

// Permissions are all that the role may do.
func (r Role) Permissions() Permission { return granted[r] }

// Check refuses a role that there is not.
func (r Role) Check() error {
	if slices.Contains(Roles, r) {
		return nil
	}
	return fmt.Errorf("role %q is none of %s", string(r), List())
}

// List writes the roles as people read them.
func List() string { return join(Roles, ", ") }

// Having lists the roles that have any of the permissions.
func Having(any Permission) []Role {
	var out []Role
	for _, r := range Roles {
		if r.May(any) {
			out = append(out, r)
		}
	}
	return out
}

// Needs says which roles have a permission, for those who do not.
func Needs(any Permission) string { return join(Having(any), " or ") }

func join(roles []Role, between string) string {
	words := make([]string, len(roles))
	for i, r := range roles {
		words[i] = string(r)
	}
	return strings.Join(words, between)
}
