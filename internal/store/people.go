package store

import (
	"context"
	"time"

	"openrelay/internal/core/person"
)

// User is a person who may sign in.
type User struct {
	ID           int64       `db:"id"`
	Email        string      `db:"email"`
	Name         string      `db:"name"`
	Role         person.Role `db:"role"`
	PasswordHash string      `db:"password_hash"`
}

// UserByEmail loads a user.
func (s *Store) UserByEmail(ctx context.Context, email string) (User, error) {
	var u User
	err := s.read.GetContext(ctx, &u, "SELECT id, email, name, role, password_hash FROM user WHERE email=?", email)
	return u, found(err)
}

// User loads a user by id.
func (s *Store) User(ctx context.Context, id int64) (User, error) {
	var u User
	err := s.read.GetContext(ctx, &u, "SELECT id, email, name, role, password_hash FROM user WHERE id=?", id)
	return u, found(err)
}

// CountUsers tells how many people may sign in.
func (s *Store) CountUsers(ctx context.Context) (n int64, err error) {
	err = s.read.GetContext(ctx, &n, "SELECT count(*) FROM user")
	return n, err
}

// CountUsers tells how many people may sign in.
func (t *Tx) CountUsers() (n int64, err error) {
	err = t.get(&n, "SELECT count(*) FROM user")
	return n, err
}

// PutUser adds a user, or changes the one with the same e-mail.
func (t *Tx) PutUser(u User) error {
	_, err := t.exec(`INSERT INTO user (email, name, role, password_hash) VALUES (?,?,?,?)
		ON CONFLICT (email) DO UPDATE SET name=excluded.name, role=excluded.role, password_hash=excluded.password_hash`, u.Email, u.Name,
		u.Role, u.PasswordHash)
	return err
}

// Token is an API token without its secret.
type Token struct {
	ID   int64       `db:"id"`
	Name string      `db:"name"`
	Role person.Role `db:"role"`
}

// AddToken writes an API token by the hash of its secret.
func (t *Tx) AddToken(name string, role person.Role, hash []byte, now time.Time) error {
	_, err := t.exec("INSERT INTO api_token (name, role, hash, created_at) VALUES (?,?,?,?)", name, role, hash, micros(now))
	return err
}

// TokenByHash finds an API token.
func (s *Store) TokenByHash(ctx context.Context, hash []byte) (Token, error) {
	var k Token
	err := s.read.GetContext(ctx, &k, "SELECT id, name, role FROM api_token WHERE hash=?", hash)
	return k, found(err)
}

// Sessions keeps sign-ins. It is a scs.CtxStore.
type Sessions struct{ *Store }

// FindCtx returns a session's data.
func (s Sessions) FindCtx(ctx context.Context, token string) ([]byte, bool, error) {
	var b []byte
	err := found(s.read.GetContext(ctx, &b, "SELECT data FROM session WHERE token=? AND ended=0 AND expires_at>?", token,
		micros(time.Now())))
	if err == ErrNotFound {
		return nil, false, nil
	}
	return b, err == nil, err
}

// CommitCtx writes a session and sweeps those that ran out. One that was ended stays ended.
func (s Sessions) CommitCtx(ctx context.Context, token string, b []byte, expiry time.Time) error {
	return s.Write(ctx, func(t *Tx) error {
		if _, err := t.exec("DELETE FROM session WHERE expires_at<?", micros(time.Now())); err != nil {
			return err
		}
		_, err := t.exec(`INSERT INTO session (token, data, expires_at) VALUES (?,?,?) ON CONFLICT (token) DO UPDATE
			SET data=excluded.data, expires_at=excluded.expires_at WHERE session.ended=0`, token, b, micros(expiry))
		return err
	})
}

// DeleteCtx ends a session. That it ended is remembered until it would have run out: a request that began before and
// ends after must not bring it back.
func (s Sessions) DeleteCtx(ctx context.Context, token string) error {
	return s.Write(ctx, func(t *Tx) error {
		_, err := t.exec(`INSERT INTO session (token, data, expires_at, ended) VALUES (?,x'',?,1) ON CONFLICT (token) DO UPDATE
			SET data=x'', ended=1`, token, micros(time.Now().Add(sessionMemory)))
		return err
	})
}

// sessionMemory is how long it is remembered that a session ended which the file did not know: longer than any lives.
const sessionMemory = 15 * 24 * time.Hour

// Find, Commit and Delete serve callers without a context.
func (s Sessions) Find(token string) ([]byte, bool, error) {
	return s.FindCtx(context.Background(), token)
}

// Commit is CommitCtx without a context.
func (s Sessions) Commit(token string, b []byte, expiry time.Time) error {
	return s.CommitCtx(context.Background(), token, b, expiry)
}

// Delete is DeleteCtx without a context.
func (s Sessions) Delete(token string) error { return s.DeleteCtx(context.Background(), token) }

// Setting reads a setting, or "" where it was never set.
func (s *Store) Setting(ctx context.Context, key string) (string, error) {
	var v string
	err := found(s.read.GetContext(ctx, &v, "SELECT value FROM setting WHERE key=?", key))
	if err == ErrNotFound {
		err = nil
	}
	return v, err
}

// PutSetting writes a setting.
func (t *Tx) PutSetting(key, value string) error {
	_, err := t.exec("INSERT INTO setting (key, value) VALUES (?,?) ON CONFLICT (key) DO UPDATE SET value=excluded.value", key, value)
	return err
}

// PutSeries sets a number series.
func (t *Tx) PutSeries(code, prefix string, next int64) error {
	_, err := t.exec(`INSERT INTO series (code, prefix, next) VALUES (?,?,?) ON CONFLICT (code) DO UPDATE
		SET prefix=excluded.prefix, next=excluded.next`, code, prefix, next)
	return err
}

// Answer is what a request with an idempotency key was answered.
type Answer struct {
	Request []byte `db:"request"`
	Status  int    `db:"status"`
	Answer  []byte `db:"answer"`
}

// AnswerFor finds the answer given for an idempotency key.
func (s *Store) AnswerFor(ctx context.Context, key string) (Answer, error) {
	var a Answer
	err := s.read.GetContext(ctx, &a, "SELECT request, status, answer FROM idempotency WHERE key=?", key)
	return a, found(err)
}

// KeepAnswer keeps the answer for an idempotency key and forgets those older than a day.
func (t *Tx) KeepAnswer(key string, a Answer, now time.Time) error {
	if _, err := t.exec("DELETE FROM idempotency WHERE at<?", micros(now.Add(-24*time.Hour))); err != nil {
		return err
	}
	_, err := t.exec("INSERT INTO idempotency (key, request, status, answer, at) VALUES (?,?,?,?,?) ON CONFLICT DO NOTHING", key,
		a.Request, a.Status, a.Answer, micros(now))
	return err
}

// Series is a number series.
type Series struct {
	Code   string `db:"code"`
	Prefix string `db:"prefix"`
	Next   int64  `db:"next"`
}

// Series lists all number series.
func (s *Store) Series(ctx context.Context) ([]Series, error) {
	var out []Series
	err := s.read.SelectContext(ctx, &out, "SELECT code, prefix, next FROM series ORDER BY code")
	return out, err
}

// UserNames lists the names of the people who may sign in.
func (s *Store) UserNames(ctx context.Context) ([]string, error) {
	out := []string{}
	err := s.read.SelectContext(ctx, &out, "SELECT name FROM user ORDER BY name")
	return out, err
}
