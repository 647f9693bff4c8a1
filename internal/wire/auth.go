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
	May   []string    `json:"may" doc:"The permissions of the role" enum:"own,look,buyers,hand-over,ship,stock,orders,purchasing,catalog,feeds,books,setup,people,privacy"`

	FactorDue bool `json:"factor_due,omitempty" doc:"A second factor is demanded and not set up; nothing else can be done before"`

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
	FactorAt   *time.Time  `json:"factor_at,omitempty" doc:"Since when the codes of an authenticator are asked for"`
	Passkeys   int64       `json:"passkeys,omitempty" doc:"How many passkeys they have"`
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

// RecoveryCodes stand in for a lost second factor, each once.
type RecoveryCodes struct {
	Codes []string `json:"codes"`
}

// UserSession is a browser at which somebody is signed in.
type UserSession struct {
	ID      int64      `json:"id"`
	BeganAt *time.Time `json:"began_at"`
	UsedAt  *time.Time `json:"used_at" doc:"Noted at most hourly"`
	Source  string     `json:"source" doc:"Address it came from"`
	Agent   string     `json:"agent" doc:"What the browser says of itself"`
	Here    bool       `json:"here" doc:"The one that asks"`
}

// SecurityEvent is that somebody came in, was kept out, or changed what others may do.
type SecurityEvent struct {
	ID     int64      `json:"id"`
	At     *time.Time `json:"at"`
	Kind   string     `json:"kind"`
	Who    string     `json:"who" doc:"A name, or what was typed as one"`
	Source string     `json:"source,omitempty"`
	Text   string     `json:"text,omitempty"`
}

// Passkey is a key of a device by which a person signs in.
type Passkey struct {
	ID      int64      `json:"id"`
	Name    string     `json:"name" doc:"Which device it is"`
	Host    string     `json:"host" doc:"Name of this service under which it is good"`
	AddedAt *time.Time `json:"added_at"`
	UsedAt  *time.Time `json:"used_at,omitempty"`
}
