package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"

	"openrelay/internal/client"
	"openrelay/internal/core/person"
	"openrelay/internal/relay/people"
	"openrelay/internal/wire"
)

// peopleOptions are what people are added and changed with.
type peopleOptions struct {
	name, email, role, passwordFile string
}

func personCommand() command {
	opt := &peopleOptions{}
	return verbs(
		"person",
		"Who may sign in, their sessions and second factors",
		opt.flags,
		[]verb{
			{"list", "", "Who may sign in", 0, opt.list},
			{"add", "EMAIL", "Let somebody sign in", 1, opt.add},
			{"change", "EMAIL", "Change name, address, role or password", 1, opt.change},
			{"leave", "EMAIL", "Let somebody sign in no more; what they did stays theirs", 1, opt.leave},
			{"return", "EMAIL", "Let somebody who left sign in again", 1, opt.comeBack},
			{"sessions", "EMAIL", "Where somebody is signed in", 1, opt.sessions},
			{"end-session", "EMAIL ID", "End one of their sessions", 2, opt.endSession},
			{"end-sessions", "EMAIL", "End all of their sessions", 1, opt.endSessions},
			{"reset-second-factor", "EMAIL", "Take away a second factor that was lost", 1, opt.resetFactor},
		},
	)
}

func (opt *peopleOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.name, "name", "", "add, change: the person's `name` (add: required)")
	f.StringVar(&opt.email, "email", "", "change: another `address`")
	f.StringVar(&opt.role, "role", "", "add, change: one of "+person.List()+" (add: clerk without it)")
	f.StringVar(&opt.passwordFile, "password-file", "", "add, change: `file` that holds the password; - is standard input (add: required)")
}

// password reads the password, where a file for it is named.
func (opt *peopleOptions) password() (string, error) {
	var text []byte
	var err error
	switch opt.passwordFile {
	case "":
		return "", nil
	case "-":
		text, err = io.ReadAll(io.LimitReader(os.Stdin, 2000))
	default:
		text, err = os.ReadFile(opt.passwordFile)
	}
	if err != nil {
		return "", fmt.Errorf("read the password: %w", err)
	}
	return strings.TrimRight(string(text), "\r\n"), nil
}

func (opt *peopleOptions) list(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	list, err := c.People(ctx)
	return showPeople(p, list, err)
}

func (opt *peopleOptions) add(ctx context.Context, c *client.Client, p *printer, a []string) error {
	password, err := opt.password()
	if err != nil {
		return err
	}
	if opt.name == "" || password == "" {
		return usage{"-name and -password-file are required"}
	}
	list, err := c.AddPerson(ctx, people.NewPerson{Name: opt.name, Email: a[0], Password: password},
		person.Role(or(opt.role, string(person.Clerk))))
	return showPeople(p, list, err)
}

func (opt *peopleOptions) change(ctx context.Context, c *client.Client, p *printer, a []string) error {
	password, err := opt.password()
	if err != nil {
		return err
	}
	return onPerson(ctx, c, p, a[0], func(id int64) ([]wire.User, error) {
		return c.ChangePerson(ctx, id,
			people.PersonChange{Name: opt.name, Email: opt.email, Role: person.Role(opt.role), Password: password})
	})
}

func (opt *peopleOptions) leave(ctx context.Context, c *client.Client, p *printer, a []string) error {
	return onPerson(ctx, c, p, a[0], func(id int64) ([]wire.User, error) { return c.LeavePerson(ctx, id, true) })
}

func (opt *peopleOptions) comeBack(ctx context.Context, c *client.Client, p *printer, a []string) error {
	return onPerson(ctx, c, p, a[0], func(id int64) ([]wire.User, error) { return c.LeavePerson(ctx, id, false) })
}

func (opt *peopleOptions) endSessions(ctx context.Context, c *client.Client, p *printer, a []string) error {
	return onPerson(ctx, c, p, a[0], func(id int64) ([]wire.User, error) { return c.EndSessions(ctx, id) })
}

func (opt *peopleOptions) resetFactor(ctx context.Context, c *client.Client, p *printer, a []string) error {
	return onPerson(ctx, c, p, a[0], func(id int64) ([]wire.User, error) { return c.ResetFactor(ctx, id) })
}

func (opt *peopleOptions) sessions(ctx context.Context, c *client.Client, p *printer, a []string) error {
	u, err := personCalled(ctx, c, a[0])
	if err != nil {
		return err
	}
	list, err := c.Sessions(ctx, u.ID)
	return showSessions(p, list, err)
}

func (opt *peopleOptions) endSession(ctx context.Context, c *client.Client, p *printer, a []string) error {
	id, err := strconv.ParseInt(a[1], 10, 64)
	if err != nil {
		return usage{fmt.Sprintf("%q is no number of a session", a[1])}
	}
	u, err := personCalled(ctx, c, a[0])
	if err != nil {
		return err
	}
	list, err := c.EndSession(ctx, u.ID, id)
	return showSessions(p, list, err)
}

func showSessions(p *printer, list []wire.UserSession, err error) error {
	if err != nil {
		return err
	}
	return p.show(list, func(row func(...any)) {
		row("ID", "Browser", "From", "Began", "Used last")
		for _, s := range list {
			row(s.ID, s.Agent, s.Source, s.BeganAt, s.UsedAt)
		}
	})
}

// personCalled is the person with an address.
func personCalled(ctx context.Context, c *client.Client, email string) (wire.User, error) {
	list, err := c.People(ctx)
	if err != nil {
		return wire.User{}, err
	}
	for _, u := range list {
		if u.Email == people.NormalEmail(email) {
			return u, nil
		}
	}
	return wire.User{}, fmt.Errorf("nobody here signs in as %s", email)
}

// onPerson does something to the person with an address, and shows all of them.
func onPerson(ctx context.Context, c *client.Client, p *printer, email string, do func(id int64) ([]wire.User, error)) error {
	u, err := personCalled(ctx, c, email)
	if err != nil {
		return err
	}
	list, err := do(u.ID)
	return showPeople(p, list, err)
}

func showPeople(p *printer, list []wire.User, err error) error {
	if err != nil {
		return err
	}
	return p.show(list, func(row func(...any)) {
		row("Name", "E-mail", "Role", "Signed in last", "Second factor", "Left")
		for _, u := range list {
			row(u.Name, u.Email, string(u.Role), u.SignedInAt, u.FactorAt, u.LeftAt)
		}
	})
}

// tokensOptions are what a token is made with.
type tokensOptions struct {
	role string
	days int
}

func tokenCommand() command {
	opt := &tokensOptions{}
	return verbs("token", "The API tokens of programs", opt.flags, []verb{
		{"list", "", "Tokens, and when each was last used", 0, opt.list},
		{"make", "NAME", "Make one; it is printed once", 1, opt.make},
		{"revoke", "ID", "Revoke one; it ends at once", 1, opt.revoke},
	})
}

func (opt *tokensOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.role, "role", string(person.Clerk), "make: one of "+person.List())
	f.IntVar(&opt.days, "days", 365, "make: `days` after which it ends; 0: not by itself")
}

func (opt *tokensOptions) list(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	list, err := c.Tokens(ctx)
	if err != nil {
		return err
	}
	return p.show(list, func(row func(...any)) {
		row("ID", "What for", "Role", "Made by", "Used last", "Ends", "Revoked")
		for _, t := range list {
			row(t.ID, t.Name, string(t.Role), t.MadeBy, t.UsedAt, t.EndsAt, t.RevokedAt)
		}
	})
}

func (opt *tokensOptions) make(ctx context.Context, c *client.Client, p *printer, a []string) error {
	var ends time.Time
	if opt.days > 0 {
		ends = time.Now().AddDate(0, 0, opt.days)
	}
	t, err := c.MakeToken(ctx, a[0], person.Role(opt.role), ends)
	if err != nil {
		return err
	}
	return p.told(t, "%s", t.Token)
}

func (opt *tokensOptions) revoke(ctx context.Context, c *client.Client, p *printer, a []string) error {
	id, err := number(a[0])
	if err != nil {
		return err
	}
	if err := c.RevokeToken(ctx, id); err != nil {
		return err
	}
	return p.told(id, "token %d is revoked", id)
}
