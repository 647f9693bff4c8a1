package person

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestTheMatrix: who may do what, as it was agreed; a change here is a change of what people are trusted with.
func TestTheMatrix(t *testing.T) {
	want := map[string]string{
		"own":        "viewer driver packer bookkeeper clerk lead",
		"look":       "viewer driver packer bookkeeper clerk lead",
		"buyers":     "driver packer bookkeeper clerk lead",
		"hand-over":  "driver packer clerk lead",
		"ship":       "packer clerk lead",
		"stock":      "packer clerk lead",
		"orders":     "clerk lead",
		"purchasing": "clerk lead",
		"catalog":    "clerk lead",
		"feeds":      "clerk lead",
		"books":      "bookkeeper lead",
		"setup":      "lead",
		"people":     "lead",
		"privacy":    "lead",
	}
	for _, p := range All() {
		names := p.Names()
		if assert.Len(t, names, 1) {
			assert.Equal(t, want[names[0]], join(Having(p), " "), names[0])
			delete(want, names[0])
		}
	}
	assert.Empty(t, want, "every permission is one")
	for _, r := range Roles {
		assert.NoError(t, r.Check())
		assert.True(t, r.May(Look), r)
	}
}

func TestAnyOfASetIsEnough(t *testing.T) {
	assert.True(t, Packer.May(Ship|SetUp))
	assert.False(t, Packer.May(WorkOrders|SetUp))
	assert.Equal(t, "bookkeeper or lead", Needs(KeepBooks))
	assert.Equal(t, []string{"own", "look", "buyers", "books"}, Bookkeeper.Permissions().Names())
}

// Nobody, and a role that does not exist, may do nothing.
func TestRolesThatThereAreNot(t *testing.T) {
	for _, r := range []Role{"", "owner", "Lead", "admin"} {
		assert.EqualError(t, r.Check(), `role "`+string(r)+`" is none of `+strings.ReplaceAll(
			"viewer driver packer bookkeeper clerk lead", " ", ", "))
		for _, p := range All() {
			assert.False(t, r.May(p), "%q may %v", r, p.Names())
		}
	}
}
