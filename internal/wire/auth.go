package wire

import (
	"time"

	"openrelay/internal/core/person"
)

// Person is who makes a request.
type Person struct {
	ID    int64       `json:"id,omitempty" doc:"Of somebody who is signed in; a token has none"`
	Name  string      `json:"name"`
	Email string      `json:"email,omitempty"`
	Role  person.Role `json:"role" enum:"viewer,driver,packer,bookkeeper,clerk,lead"`
	May   []string    `json:"may" doc:"The permissions of the role"                    enum:"look,buyers,hand-over,ship,stock,orders,purchasing,catalog,feeds,books,setup,people,privacy"`

	Token int64 `json:"-"` // of a program: its token
}

// User is somebody who may sign in, or could.
type User struct {
	ID         int64       `json:"id"`
	Name       string      `json:"name"`
	Email      string      `json:"email"`
	Role       person.Role `json:"role" enum:"viewer,driver,packer,bookkeeper,clerk,lead"`
	LeftAt     *time.Time  `json:"left_at,omitempty" doc:"Since when they sign in no more"`
	SignedInAt *time.Time  `json:"signed_in_at,omitempty" doc:"When they did last"`
}

// Token is an API token without its secret.
type Token struct {
	ID        int64       `json:"id"`
	Name      string      `json:"name" doc:"What it is for"`
	Role      person.Role `json:"role" enum:"viewer,driver,packer,bookkeeper,clerk,lead"`
	MadeBy    string      `json:"made_by,omitempty"`
	MadeAt    *time.Time  `json:"made_at,omitempty"`
	UsedAt    *time.Time  `json:"used_at,omitempty" doc:"Noted at most hourly"`
	EndsAt    *time.Time  `json:"ends_at,omitempty"`
	RevokedAt *time.Time  `json:"revoked_at,omitempty"`
}

// NewToken is an API token as it is told once.
type NewToken struct {
	ID    int64  `json:"id"`
	Token string `json:"token"`
}
