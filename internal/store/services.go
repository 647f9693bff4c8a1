package store

import (
	"context"
	"encoding/json"
	"time"

	"openrelay/internal/core/freight"
	"openrelay/internal/core/order"
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

// ServiceChoices is the table of services, in the order of its rows.
func (s *Store) ServiceChoices(ctx context.Context) ([]freight.Choice, error) {
	var rows []struct {
		Code   string `db:"code"`
		Choice string `db:"choice"`
	}
	if err := s.read.SelectContext(ctx, &rows, `SELECT coalesce(c.code,'') AS code, s.choice FROM service_choice s
		LEFT JOIN connection c ON c.id=s.connection_id ORDER BY s.position`); err != nil {
		return nil, err
	}
	out := make([]freight.Choice, len(rows))
	for i, r := range rows {
		if err := json.Unmarshal([]byte(r.Choice), &out[i]); err != nil {
			return nil, err
		}
		out[i].Connection = r.Code
	}
	return out, nil
}

// PutServiceChoices replaces the table of services. connections are the numbers of the channels that its rows are for, 0 for all.
func (t *Tx) PutServiceChoices(list []freight.Choice, connections []int64) error {
	if _, err := t.exec("DELETE FROM service_choice"); err != nil {
		return err
	}
	for i, c := range list {
		c.Connection = "" // its number is kept: a code may change
		text, err := json.Marshal(c)
		if err != nil {
			return err
		}
		if _, err := t.exec("INSERT INTO service_choice (position, connection_id, choice) VALUES (?,?,?)", i+1, connections[i],
			string(text)); err != nil {
			return err
		}
	}
	return nil
}

// Tariff is what a carrier published last, and when it was read.
func (s *Store) Tariff(ctx context.Context, connection int64) (*freight.Tariff, time.Time, error) {
	var row struct {
		Tariff string `db:"tariff"`
		At     int64  `db:"at"`
	}
	if err := s.read.GetContext(ctx, &row, "SELECT tariff, at FROM carrier_tariff WHERE connection_id=?", connection); err != nil {
		return nil, time.Time{}, found(err)
	}
	out := &freight.Tariff{}
	return out, Time(row.At), json.Unmarshal([]byte(row.Tariff), out)
}

// PutTariff keeps what a carrier publishes.
func (t *Tx) PutTariff(connection int64, tariff *freight.Tariff, now time.Time) error {
	text, err := json.Marshal(tariff)
	if err == nil {
		_, err = t.exec(`INSERT INTO carrier_tariff (connection_id, tariff, at) VALUES (?,?,?)
			ON CONFLICT (connection_id) DO UPDATE SET tariff=excluded.tariff, at=excluded.at`, connection, string(text), micros(now))
	}
	return err
}

// OpenService is a word for deliveries of which nobody has said what it stands for, with the orders that wait for that.
type OpenService struct {
	Word         string `db:"word"`
	ConnectionID int64  `db:"connection_id"`
	Orders       int64  `db:"orders"`
}

// OpenServices lists the words under which orders wait for a service, the most orders first.
func (s *Store) OpenServices(ctx context.Context, cause order.Cause) (list []OpenService, err error) {
	err = s.read.SelectContext(ctx, &list, `SELECT subject AS word, connection_id, count(DISTINCT order_id) AS orders FROM exception
		WHERE closed_at=0 AND cause=? GROUP BY subject, connection_id ORDER BY orders DESC, word`, cause)
	return list, err
}
