package store

import (
	"context"
	"time"
)

// CarrierService is a service that a carrier sells.
type CarrierService struct {
	ConnectionID int64  `db:"connection_id" json:"-"`
	Code         string `db:"code" json:"code"`
	Name         string `db:"name" json:"name"`
}

// CarrierServices lists what the carriers at work sell.
func (s *Store) CarrierServices(ctx context.Context) ([]CarrierService, error) {
	out := []CarrierService{}
	err := s.read.SelectContext(ctx, &out, `SELECT s.connection_id, s.code, s.name FROM carrier_service s
		JOIN connection c ON c.id=s.connection_id WHERE c.state='on' ORDER BY s.connection_id, s.code`)
	return out, err
}

// PutCarrierServices replaces what is known of what a carrier sells.
func (t *Tx) PutCarrierServices(connection int64, services []CarrierService, now time.Time) error {
	if _, err := t.exec("DELETE FROM carrier_service WHERE connection_id=?", connection); err != nil {
		return err
	}
	for _, s := range services {
		if _, err := t.exec("INSERT INTO carrier_service (connection_id, code, name, seen_at) VALUES (?,?,?,?) ON CONFLICT DO NOTHING",
			connection, s.Code, s.Name, micros(now)); err != nil {
			return err
		}
	}
	return nil
}
