package store

import (
	"context"
	"time"
)

// AddressAnswer is what an address service said of an address since a moment, as JSON. The address is known by a key that shows nothing
// of it.
func (s *Store) AddressAnswer(ctx context.Context, key string, since time.Time) (answer string, err error) {
	err = found(s.read.GetContext(ctx, &answer, "SELECT answer FROM address_check WHERE address=? AND at>=?", key, micros(since)))
	return answer, err
}

// PutAddressAnswer keeps what an address service said, and forgets what it said before a moment.
func (t *Tx) PutAddressAnswer(key, answer string, now, before time.Time) error {
	if _, err := t.exec(`INSERT INTO address_check (address, answer, at) VALUES (?,?,?)
		ON CONFLICT (address) DO UPDATE SET answer=excluded.answer, at=excluded.at`, key, answer, micros(now)); err != nil {
		return err
	}
	_, err := t.exec("DELETE FROM address_check WHERE at<?", micros(before))
	return err
}
