package person

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestARoleCoversThoseBelow(t *testing.T) {
	for i, has := range Roles {
		for j, needed := range Roles {
			assert.Equal(t, i >= j, has.Covers(needed), "%s does what needs %s", has, needed)
		}
		assert.True(t, has.Covers(Anybody))
		assert.NoError(t, has.Check())
	}
}

// Nobody, and a role that does not exist, may do nothing that needs one; a need that does not exist is met by nobody.
func TestRolesThatThereAreNot(t *testing.T) {
	for _, r := range []Role{Anybody, "owner", "Admin"} {
		assert.EqualError(t, r.Check(), `role "`+string(r)+`" is none of viewer, operator, admin`)
		for _, needed := range Roles {
			assert.False(t, r.Covers(needed), "%q does what needs %s", r, needed)
		}
	}
	assert.False(t, Operator.Covers("owner"))
	assert.False(t, Role("owner").Covers("owner"))
}
