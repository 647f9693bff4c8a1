package store

import (
	"context"
	"time"
)

// UserSession is a time during which somebody is signed in at one browser.
type UserSession struct {
	ID      int64  `db:"id"`
	UserID  int64  `db:"user_id"`
	BeganAt int64  `db:"began_at"`
	UsedAt  int64  `db:"used_at"` // noted now and then
	EndedAt int64  `db:"ended_at"`
	Source  string `db:"source"` // address it came from
	Agent   string `db:"agent"`  // what the browser says of itself
}

const userSessionQuery = "SELECT id, user_id, began_at, used_at, ended_at, source, agent FROM user_session "

// AddUserSession begins one.
func (t *Tx) AddUserSession(s UserSession) (id int64, err error) {
	err = t.get(&id, "INSERT INTO user_session (user_id, began_at, used_at, source, agent) VALUES (?,?,?,?,?) RETURNING id", s.UserID,
		s.BeganAt, s.BeganAt, s.Source, s.Agent)
	return id, err
}

// UserSession loads one.
func (s *Store) UserSession(ctx context.Context, id int64) (u UserSession, err error) {
	err = found(s.read.GetContext(ctx, &u, userSessionQuery+"WHERE id=?", id))
	return u, err
}

// UserSessions lists those of a person that have not ended, the one used last first.
func (s *Store) UserSessions(ctx context.Context, user int64) (list []UserSession, err error) {
	err = s.read.SelectContext(ctx, &list, userSessionQuery+"WHERE user_id=? AND ended_at=0 ORDER BY used_at DESC, id DESC", user)
	return list, err
}

// UserSessionUsed notes that one is used.
func (t *Tx) UserSessionUsed(id int64, now time.Time) error {
	_, err := t.exec("UPDATE user_session SET used_at=? WHERE id=?", micros(now), id)
	return err
}

// EndUserSession ends one of a person's; ErrNotFound where there is none.
func (t *Tx) EndUserSession(user, id int64, now time.Time) error {
	n, err := t.exec("UPDATE user_session SET ended_at=? WHERE id=? AND user_id=? AND ended_at=0", micros(now), id, user)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return err
}

// EndUserSessions ends all of a person's.
func (t *Tx) EndUserSessions(user int64, now time.Time) error {
	_, err := t.exec("UPDATE user_session SET ended_at=? WHERE user_id=? AND ended_at=0", micros(now), user)
	return err
}

// SweepUserSessions ends those that nobody has used since a time, and forgets those that ended before another.
func (t *Tx) SweepUserSessions(unusedSince, endedBefore, now time.Time) error {
	if _, err := t.exec("UPDATE user_session SET ended_at=? WHERE ended_at=0 AND used_at<?", micros(now), micros(unusedSince)); err != nil {
		return err
	}
	_, err := t.exec("DELETE FROM user_session WHERE ended_at<>0 AND ended_at<?", micros(endedBefore))
	return err
}

// SetTOTP keeps the sealed secret of a person's second factor; since: from when it counts, 0: it does not yet.
func (t *Tx) SetTOTP(user int64, sealed []byte, since int64) error {
	_, err := t.exec("UPDATE user SET totp=?, totp_at=?, totp_step=0 WHERE id=?", sealed, since, user)
	return err
}

// UseTOTPStep notes the time step of a code that was used, and tells whether it is newer than the last.
func (t *Tx) UseTOTPStep(user, step int64) (bool, error) {
	n, err := t.exec("UPDATE user SET totp_step=? WHERE id=? AND totp_step<?", step, user, step)
	return n > 0, err
}

// SetRecoveryCodes replaces the recovery codes of a person by others, known by their hashes.
func (t *Tx) SetRecoveryCodes(user int64, hashes [][]byte) error {
	if _, err := t.exec("DELETE FROM recovery_code WHERE user_id=?", user); err != nil {
		return err
	}
	for _, h := range hashes {
		if _, err := t.exec("INSERT INTO recovery_code (user_id, hash) VALUES (?,?)", user, h); err != nil {
			return err
		}
	}
	return nil
}

// UseRecoveryCode uses a recovery code up, and tells whether there was one.
func (t *Tx) UseRecoveryCode(user int64, hash []byte) (bool, error) {
	n, err := t.exec("DELETE FROM recovery_code WHERE user_id=? AND hash=?", user, hash)
	return n > 0, err
}

// RecoveryCodes tells how many are left to a person.
func (s *Store) RecoveryCodes(ctx context.Context, user int64) (n int64, err error) {
	err = s.read.GetContext(ctx, &n, "SELECT count(*) FROM recovery_code WHERE user_id=?", user)
	return n, err
}

// SecurityEvent is that somebody came in, was kept out, or changed what others may do.
type SecurityEvent struct {
	ID     int64  `db:"id"`
	At     int64  `db:"at"`
	Kind   string `db:"kind"`
	Who    string `db:"who"`
	Source string `db:"source"` // address it came from; empty: this machine, or a program
	Text   string `db:"text"`
}

// NoteSecurity keeps one.
func (t *Tx) NoteSecurity(e SecurityEvent) error {
	_, err := t.exec("INSERT INTO security_event (at, kind, who, source, text) VALUES (?,?,?,?,?)", e.At, e.Kind, e.Who, e.Source, e.Text)
	return err
}

// SecurityEvents lists those before an id, newest first; 0: from the newest.
func (s *Store) SecurityEvents(ctx context.Context, before int64, limit int) (list []SecurityEvent, err error) {
	if before == 0 {
		before = 1 << 62
	}
	err = s.read.SelectContext(
		ctx,
		&list,
		"SELECT id, at, kind, "+called("who")+" AS who, source, text FROM security_event WHERE id<? ORDER BY id DESC LIMIT ?",
		before,
		limit,
	)
	return list, err
}
