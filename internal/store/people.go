package store

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
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
	LeftAt       int64       `db:"left_at"`      // 0: is still here
	Epoch        int64       `db:"epoch"`        // sessions that began in an earlier one have ended
	SignedInAt   int64       `db:"signed_in_at"` // 0: never
	TOTP         []byte      `db:"totp"`         // secret of the second factor, sealed
	TOTPAt       int64       `db:"totp_at"`      // since when it counts; 0: it does not
	Passkeys     int64       `db:"passkeys"`     // how many
}

// HasFactor tells whether the person has a second factor of either kind.
func (u User) HasFactor() bool { return u.TOTPAt != 0 || u.Passkeys > 0 }

const userQuery = `SELECT id, email, name, role, password_hash, left_at, epoch, signed_in_at, totp, totp_at,
	(SELECT count(*) FROM passkey p WHERE p.user_id=user.id) AS passkeys FROM user `

// UserByEmail loads a user.
func (s *Store) UserByEmail(ctx context.Context, email string) (u User, err error) {
	err = found(s.read.GetContext(ctx, &u, userQuery+"WHERE email=?", email))
	return u, err
}

// User loads a user by id.
func (s *Store) User(ctx context.Context, id int64) (u User, err error) {
	err = found(s.read.GetContext(ctx, &u, userQuery+"WHERE id=?", id))
	return u, err
}

// Users lists all people, those who have left last.
func (s *Store) Users(ctx context.Context) (list []User, err error) {
	err = s.read.SelectContext(ctx, &list, userQuery+"ORDER BY left_at<>0, name, id")
	return list, err
}

// User loads a user by id.
func (t *Tx) User(id int64) (u User, err error) {
	err = t.get(&u, userQuery+"WHERE id=?", id)
	return u, err
}

// UserByEmail loads a user.
func (t *Tx) UserByEmail(email string) (u User, err error) {
	err = t.get(&u, userQuery+"WHERE email=?", email)
	return u, err
}

// CountUsers tells how many people there are, also those who have left.
func (s *Store) CountUsers(ctx context.Context) (n int64, err error) {
	err = s.read.GetContext(ctx, &n, "SELECT count(*) FROM user")
	return n, err
}

// CountUsers tells how many people there are, also those who have left.
func (t *Tx) CountUsers() (n int64, err error) {
	err = t.get(&n, "SELECT count(*) FROM user")
	return n, err
}

// CountRole tells how many people who are still here have a role.
func (t *Tx) CountRole(role person.Role) (n int64, err error) {
	err = t.get(&n, "SELECT count(*) FROM user WHERE role=? AND left_at=0", role)
	return n, err
}

// PutUser adds a user, or changes the one with the same e-mail, whose sessions end.
func (t *Tx) PutUser(u *User) error {
	err := t.get(&u.ID, `INSERT INTO user (email, name, role, password_hash) VALUES (?,?,?,?)
		ON CONFLICT (email) DO UPDATE SET name=excluded.name, role=excluded.role, password_hash=excluded.password_hash,
		left_at=0, epoch=epoch+1 RETURNING id`, u.Email, u.Name, u.Role, u.PasswordHash)
	if err != nil {
		return err
	}
	_, err = t.exec("UPDATE user_session SET ended_at=began_at WHERE ended_at=0 AND user_id=(SELECT id FROM user WHERE email=?)", u.Email)
	return err
}

// UpdateUser writes what is known of a user.
func (t *Tx) UpdateUser(u User) error {
	_, err := t.exec("UPDATE user SET email=?, name=?, role=?, password_hash=?, left_at=?, epoch=? WHERE id=?", u.Email, u.Name, u.Role,
		u.PasswordHash, u.LeftAt, u.Epoch, u.ID)
	return err
}

// SignedIn notes that a user signed in.
func (t *Tx) SignedIn(id int64, now time.Time) error {
	_, err := t.exec("UPDATE user SET signed_in_at=? WHERE id=?", micros(now), id)
	return err
}

// Token is an API token without its secret.
type Token struct {
	ID        int64       `db:"id"`
	Name      string      `db:"name"`
	Role      person.Role `db:"role"`
	MadeBy    string      `db:"made_by"`
	CreatedAt int64       `db:"created_at"`
	UsedAt    int64       `db:"used_at"`    // 0: never; noted at most hourly
	EndsAt    int64       `db:"ends_at"`    // 0: not by itself
	RevokedAt int64       `db:"revoked_at"` // 0: it was not
}

var tokenQuery = "SELECT id, name, role, " + called("made_by") + " AS made_by, created_at, used_at, ends_at, revoked_at FROM api_token "

// AddToken writes an API token by the hash of its secret, and returns its id.
func (t *Tx) AddToken(k Token, hash []byte) (id int64, err error) {
	err = t.get(&id, `INSERT INTO api_token (name, role, hash, created_at, made_by, ends_at) VALUES (?,?,?,?,?,?) RETURNING id`, k.Name,
		k.Role, hash, k.CreatedAt, k.MadeBy, k.EndsAt)
	return id, err
}

// Token loads an API token by id.
func (s *Store) Token(ctx context.Context, id int64) (k Token, err error) {
	err = found(s.read.GetContext(ctx, &k, tokenQuery+"WHERE id=?", id))
	return k, err
}

// TokenByHash finds an API token, also one that ended or was revoked.
func (s *Store) TokenByHash(ctx context.Context, hash []byte) (k Token, err error) {
	err = found(s.read.GetContext(ctx, &k, tokenQuery+"WHERE hash=?", hash))
	return k, err
}

// Tokens lists all API tokens, newest first.
func (s *Store) Tokens(ctx context.Context) (list []Token, err error) {
	err = s.read.SelectContext(ctx, &list, tokenQuery+"ORDER BY revoked_at<>0, id DESC")
	return list, err
}

// RevokeToken ends an API token for good, and returns what it is called.
func (t *Tx) RevokeToken(id int64, now time.Time) (k Token, err error) {
	if err = t.get(&k, tokenQuery+"WHERE id=?", id); err != nil {
		return k, err
	}
	_, err = t.exec("UPDATE api_token SET revoked_at=? WHERE id=? AND revoked_at=0", micros(now), id)
	return k, err
}

// TokenUsed notes that an API token was used.
func (t *Tx) TokenUsed(id int64, now time.Time) error {
	_, err := t.exec("UPDATE api_token SET used_at=? WHERE id=?", micros(now), id)
	return err
}

// Sessions keeps sign-ins, by the hash of their token: who reads the file cannot use them. It is a scs.CtxStore.
type Sessions struct{ *Store }

// FindCtx returns a session's data.
func (s Sessions) FindCtx(ctx context.Context, token string) ([]byte, bool, error) {
	var b []byte
	err := found(s.read.GetContext(ctx, &b, "SELECT data FROM session WHERE token=? AND ended=0 AND expires_at>?", sessionKey(token),
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
			SET data=excluded.data, expires_at=excluded.expires_at WHERE session.ended=0`, sessionKey(token), b, micros(expiry))
		return err
	})
}

// DeleteCtx ends a session. That it ended is remembered until it would have run out: a request that began before and
// ends after must not bring it back.
func (s Sessions) DeleteCtx(ctx context.Context, token string) error {
	return s.Write(ctx, func(t *Tx) error {
		_, err := t.exec(`INSERT INTO session (token, data, expires_at, ended) VALUES (?,x'',?,1) ON CONFLICT (token) DO UPDATE
			SET data=x'', ended=1`, sessionKey(token), micros(time.Now().Add(sessionMemory)))
		return err
	})
}

// sessionKey is under which a session is kept.
func sessionKey(token string) string {
	h := sha256.Sum256([]byte(token))
	return hex.EncodeToString(h[:])
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

// Beginnings tells what a company has at all.
type Beginnings struct {
	Place bool `db:"place"`
	Items bool `db:"items"`
	Order bool `db:"sold"`
}

// Beginnings tells whether there is a place, an item and an order.
func (s *Store) Beginnings(ctx context.Context) (b Beginnings, err error) {
	err = s.read.GetContext(ctx, &b, `SELECT EXISTS (SELECT 1 FROM location) AS place, EXISTS (SELECT 1 FROM item) AS items,
		EXISTS (SELECT 1 FROM orders) AS sold`)
	return b, err
}

// Setting reads a setting, or "" where it was never set.
func (s *Store) Setting(ctx context.Context, key string) (string, error) {
	var v string
	err := found(s.read.GetContext(ctx, &v, "SELECT value FROM setting WHERE key=?", key))
	if err == ErrNotFound {
		err = nil
	}
	return v, err
}

// Setting reads a setting; one that is not there is empty.
func (t *Tx) Setting(key string) (v string, err error) {
	if err = t.get(&v, "SELECT value FROM setting WHERE key=?", key); err == ErrNotFound {
		err = nil
	}
	return v, err
}

// PutSetting writes a setting.
func (t *Tx) PutSetting(key, value string) error {
	_, err := t.exec("INSERT INTO setting (key, value) VALUES (?,?) ON CONFLICT (key) DO UPDATE SET value=excluded.value", key, value)
	return err
}

// numberedBy are the tables whose rows are numbered by a series.
var numberedBy = map[string]string{"order": "orders", "shipment": "shipment", "purchase": "purchase", "transfer": "transfer",
	"count": "stock_count", "return": "goods_return", "round": "round", "request": "request"}

// HighestNumber is the highest number that was given with a prefix to what a series numbers; 0: none was.
func (t *Tx) HighestNumber(series, prefix string) (n int64, err error) {
	table, ok := numberedBy[series]
	if !ok {
		return 0, nil
	}
	err = t.get(&n, "SELECT coalesce(max(CAST(substr(number, length(?1)+1) AS INTEGER)),0) FROM "+table+
		" WHERE number>=?1 AND number<?1||char(0x10FFFF) AND substr(number, length(?1)+1) NOT GLOB '*[^0-9]*'", prefix)
	return n, err
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
	if err := t.ForgetAnswers(now.Add(-24 * time.Hour)); err != nil {
		return err
	}
	_, err := t.exec("INSERT INTO idempotency (key, request, status, answer, at) VALUES (?,?,?,?,?) ON CONFLICT DO NOTHING", key,
		a.Request, a.Status, a.Answer, micros(now))
	return err
}

// ForgetAnswers forgets what was answered before a time.
func (t *Tx) ForgetAnswers(before time.Time) error {
	_, err := t.exec("DELETE FROM idempotency WHERE at<?", micros(before))
	return err
}

// HoldsSecrets tells whether anything in the file is sealed, so that it needs its key.
func (s *Store) HoldsSecrets(ctx context.Context) (yes bool, err error) {
	err = s.read.GetContext(ctx, &yes, `SELECT EXISTS (SELECT 1 FROM account WHERE length(credentials)>0 OR length(token)>0)
		OR EXISTS (SELECT 1 FROM consent)
		OR EXISTS (SELECT 1 FROM user WHERE length(totp)>0) OR EXISTS (SELECT 1 FROM notify_target WHERE length(secret)>0)`)
	return yes, err
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

// calledSQL is what the person u is called: by name, or by e-mail where somebody else who is here has the same name.
const calledSQL = `CASE WHEN EXISTS (SELECT 1 FROM user same WHERE same.name=u.name AND same.id<>u.id AND same.left_at=0)
	THEN u.email ELSE u.name END`

// called is the SQL of what stands in a column that says who did something: what the person is called whose id it holds, or
// the text itself, which is that of a connection, a token or the service.
func called(column string) string {
	return "coalesce((SELECT " + calledSQL + " FROM user u WHERE u.id=" + column + "), " + column + ")"
}

// UserNames lists what the people who may sign in are called.
func (s *Store) UserNames(ctx context.Context) ([]string, error) {
	out := []string{}
	err := s.read.SelectContext(ctx, &out, "SELECT "+calledSQL+" FROM user u WHERE u.left_at=0 ORDER BY 1")
	return out, err
}

// UserName is what the person of an id is called.
func (s *Store) UserName(ctx context.Context, id int64) (string, error) {
	var name string
	err := found(s.read.GetContext(ctx, &name, "SELECT "+calledSQL+" FROM user u WHERE u.id=?", id))
	return name, err
}
