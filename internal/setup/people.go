package setup

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"openrelay/internal/core/person"
)

// Person is somebody who works here, known by the e-mail under which they sign in.
type Person struct {
	Email string      `yaml:"email"`
	Name  string      `yaml:"name"`
	Role  person.Role `yaml:"role"`
	// Password is a reference, env:NAME or file:PATH, for somebody who is not there yet. Without one, a password is made up and
	// shown once; who is there keeps theirs.
	Password string `yaml:"password,omitempty"`
}

// Token lets a program in, known by its name.
type Token struct {
	Name string      `yaml:"name"`
	Role person.Role `yaml:"role"`
	Ends string      `yaml:"ends,omitempty"` // RFC 3339; without it: not by itself
	// Secret is a reference, env:NAME or file:PATH, for one that is not there yet. Without one, it is made up and shown once.
	Secret string `yaml:"secret,omitempty"`
}

func (p Person) code() string  { return p.Email }
func (p Person) title() string { return joined(p.Name, string(p.Role)) }
func (p Person) line() string  { return p.title() }
func (k Token) code() string   { return k.Name }
func (k Token) title() string {
	return string(k.Role) + map[bool]string{true: ", until " + k.Ends}[k.Ends != ""]
}
func (k Token) line() string { return k.title() }

// Key is under which the secrets of a person are given.
func (p Person) Key() string { return "person " + p.Email }

// Key is under which the secret of a token is given.
func (k Token) Key() string { return "token " + k.Name }

// End is when a token ends; the zero time: not by itself.
func (k Token) End() (time.Time, error) {
	if k.Ends == "" {
		return time.Time{}, nil
	}
	at, err := time.Parse(time.RFC3339, k.Ends)
	if err != nil {
		return at, fmt.Errorf("tokens: %s: ends: a time such as 2027-01-31T18:00:00Z is expected", k.Name)
	}
	return at, nil
}

// checkPeople refuses who cannot be known or be let in.
func (s *Setup) checkPeople(once func(kind, code string) error) error {
	for i := range s.People {
		p := &s.People[i]
		p.Email = strings.ToLower(strings.TrimSpace(p.Email))
		if err := once("people", p.Email); err != nil {
			return err
		}
		if err := p.Role.Check(); err != nil {
			return fmt.Errorf("people: %s: %w", p.Email, err)
		}
		if err := checkReference(p.Password); err != nil {
			return fmt.Errorf("people: %s: password: %w", p.Email, err)
		}
	}
	for i, email := range s.Archived.People {
		s.Archived.People[i] = strings.ToLower(strings.TrimSpace(email))
	}
	for _, k := range s.Tokens {
		if err := once("tokens", k.Name); err != nil {
			return err
		}
		if err := k.Role.Check(); err != nil {
			return fmt.Errorf("tokens: %s: %w", k.Name, err)
		}
		if err := checkReference(k.Secret); err != nil {
			return fmt.Errorf("tokens: %s: secret: %w", k.Name, err)
		}
		if _, err := k.End(); err != nil {
			return err
		}
	}
	return nil
}

var errNoReference = errors.New("a reference is expected, env:NAME or file:PATH; secrets do not stand in a set-up")

var reference = regexp.MustCompile(`^(env|file):.`)

// checkReference refuses a secret that stands where its reference should; none is fine.
func checkReference(text string) error {
	if text == "" || reference.MatchString(text) {
		return nil
	}
	return errNoReference
}

// comparePeople says who comes, and what becomes of those who are there. Who is not in the text stays as they are.
func comparePeople(have, want Setup) []Change {
	out := compareLines("person", "name and role", have.People, want.People, have.Archived.People)
	for _, w := range want.Tokens {
		i := slices.IndexFunc(have.Tokens, func(h Token) bool { return h.Name == w.Name })
		switch {
		case i < 0:
			out = append(out, Change{Action: "add", Thing: w.Key(), To: w.title()})
		case have.Tokens[i].line() != w.line():
			out = append(
				out,
				Change{Action: "note", Thing: w.Key(), To: fmt.Sprintf("is there as %s and stays so; revoke it to have another",
					have.Tokens[i].line())},
			)
		}
	}
	return out
}

// Secrets are references to what is secret of one thing, by field.
type Secrets struct {
	Key  string // under which the values are given: a connection's code, or what Person.Key and Token.Key say
	Name string // as people call it
	Refs map[string]string
}

// Secrets lists what is referred to, thing by thing.
func (s Setup) Secrets() (out []Secrets) {
	for _, c := range s.Connections {
		out = append(out, Secrets{c.Code, c.Code, c.Credentials})
	}
	for _, p := range s.People {
		if p.Password != "" {
			out = append(out, Secrets{p.Key(), p.Email, map[string]string{"password": p.Password}})
		}
	}
	for _, k := range s.Tokens {
		if k.Secret != "" {
			out = append(out, Secrets{k.Key(), k.Name, map[string]string{"secret": k.Secret}})
		}
	}
	return out
}
