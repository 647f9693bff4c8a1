package store

import (
	"context"
	"time"
)

// Passkey is a key of a device by which a person signs in.
type Passkey struct {
	ID           int64  `db:"id"`
	UserID       int64  `db:"user_id"`
	CredentialID []byte `db:"credential_id"`
	Credential   string `db:"credential"` // JSON: the public half, and how often it was used
	Host         string `db:"host"`       // name under which the service was reached when it was made; it is good there only
	Name         string `db:"name"`       // as the person called it
	AddedAt      int64  `db:"added_at"`
	UsedAt       int64  `db:"used_at"` // 0: never
}

// Passkeys lists those of a person, in the order in which they were added.
func (s *Store) Passkeys(ctx context.Context, user int64) (list []Passkey, err error) {
	err = s.read.SelectContext(ctx, &list, `SELECT id, user_id, credential_id, credential, host, name, added_at, used_at FROM passkey
		WHERE user_id=? ORDER BY id`, user)
	return list, err
}

// AddPasskey keeps one.
func (t *Tx) AddPasskey(p Passkey) error {
	_, err := t.exec("INSERT INTO passkey (user_id, credential_id, credential, host, name, added_at) VALUES (?,?,?,?,?,?)", p.UserID,
		p.CredentialID, p.Credential, p.Host, p.Name, p.AddedAt)
	return err
}

// PasskeyUsed notes that one was used, and what is kept of it since.
func (t *Tx) PasskeyUsed(credentialID []byte, credential string, now time.Time) error {
	return t.touch("UPDATE passkey SET credential=?, used_at=? WHERE credential_id=?", credential, micros(now), credentialID)
}

// DropPasskey removes one of a person's; ErrNotFound where there is none.
func (t *Tx) DropPasskey(user, id int64) error {
	return t.touch("DELETE FROM passkey WHERE user_id=? AND id=?", user, id)
}

// DropPasskeys removes all of a person's.
func (t *Tx) DropPasskeys(user int64) error {
	_, err := t.exec("DELETE FROM passkey WHERE user_id=?", user)
	return err
}
