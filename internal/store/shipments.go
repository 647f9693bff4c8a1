package store

import (
	"context"

	"openrelay/internal/core/packing"
)

// PickersApart stands between those who picked a shipment.
const PickersApart = ","

// Shipment is what one location sends to one recipient. It leaves in parcels.
type Shipment struct {
	ID          int64  `db:"id"`
	Number      string `db:"number"`
	OrderID     int64  `db:"order_id"`
	OrderNumber string `db:"order_number"`
	Buyer       string `db:"buyer"`
	LocationID  int64  `db:"location_id"`
	State       string `db:"state"`
	Pickers     string `db:"pickers"`    // who picked, by their ids, told apart by PickersApart
	Together    int64  `db:"together"`   // shipments with the same number travel together; 0: it travels alone
	RequestID   int64  `db:"request_id"` // that a partner answered with it; 0: it is sent from a place of ours
	CreatedAt   int64  `db:"created_at"`
	Revision    int64  `db:"revision"`
	Lines       []ShipmentLine
}

// ShipmentLine is a quantity of an item that a shipment takes for an order line. A kit has one for each of
// its components, of which Per make one unit of the line.
type ShipmentLine struct {
	LineID   int64 `db:"line_id"`
	ItemID   int64 `db:"item_id"`
	Per      int64 `db:"per"`
	Quantity int64 `db:"quantity"`
	Picked   int64 `db:"picked"`
}

// WholeUnits counts, by order line, the units of which all that a unit takes was picked.
func (s *Shipment) WholeUnits() map[int64]int64 {
	out := map[int64]int64{}
	for _, l := range s.Lines {
		n := l.Picked / max(l.Per, 1)
		if have, known := out[l.LineID]; !known || n < have {
			out[l.LineID] = n
		}
	}
	return out
}

// The states of shipments and parcels. A shipment is picked until all of it lies in parcels, packed until all of them left.
// Only a parcel has its label bought.
const (
	ToPick    = "picking"
	ToShip    = "packed"
	Buying    = "buying label"
	Gone      = "shipped"
	Arrived   = "delivered"
	CalledOff = "called off"
)

const shipmentQuery = `SELECT s.id, s.number, s.order_id, o.number AS order_number, o.buyer, s.location_id, s.state, s.pickers,
	s.together, s.request_id, s.created_at, s.revision FROM shipment s JOIN orders o ON o.id = s.order_id `

func withLines(sel selector, list []Shipment) ([]Shipment, error) {
	for i := range list {
		if err := sel(&list[i].Lines, `SELECT line_id, item_id, per, quantity, picked FROM shipment_line WHERE shipment_id=?
			ORDER BY line_id, item_id`, list[i].ID); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// ShipmentsOfOrder lists an order's shipments.
func (t *Tx) ShipmentsOfOrder(order int64) ([]Shipment, error) {
	return shipmentsWhere(t.sel, "s.order_id=? ORDER BY s.id", order)
}

// ShipmentsOfOrder lists an order's shipments.
func (s *Store) ShipmentsOfOrder(ctx context.Context, order int64) ([]Shipment, error) {
	return shipmentsWhere(s.selector(ctx), "s.order_id=? ORDER BY s.id", order)
}

func shipmentsWhere(sel selector, where string, args ...any) ([]Shipment, error) {
	var out []Shipment
	if err := sel(&out, shipmentQuery+"WHERE "+where, args...); err != nil {
		return nil, err
	}
	return withLines(sel, out)
}

func oneShipment(sel selector, where string, args ...any) (Shipment, error) {
	return firstOf(shipmentsWhere(sel, where, args...))
}

// byNumber finds a shipment by its number, or by the number or tracking number of one of its parcels.
const byNumber = `s.number=?1 OR s.id IN (SELECT shipment_id FROM parcel WHERE number=?1 OR (tracking=?1 AND tracking<>''))
	ORDER BY s.number<>?1 LIMIT 1`

// Shipment loads a shipment by its number, or the number or tracking number of a parcel of it.
func (t *Tx) Shipment(number string) (Shipment, error) { return oneShipment(t.sel, byNumber, number) }

// Shipment loads a shipment by its number, or the number or tracking number of a parcel of it.
func (s *Store) Shipment(ctx context.Context, number string) (Shipment, error) {
	return oneShipment(s.selector(ctx), byNumber, number)
}

// ShipmentByID loads a shipment.
func (t *Tx) ShipmentByID(id int64) (Shipment, error) { return oneShipment(t.sel, "s.id=?", id) }

// ShipmentsTogether lists the open shipments that travel together under a number, in the order in which they were begun.
func (t *Tx) ShipmentsTogether(together int64) ([]Shipment, error) {
	return shipmentsTogether(t.sel, together)
}

// ShipmentsTogether lists the open shipments that travel together under a number, in the order in which they were begun.
func (s *Store) ShipmentsTogether(ctx context.Context, together int64) ([]Shipment, error) {
	return shipmentsTogether(s.selector(ctx), together)
}

func shipmentsTogether(sel selector, together int64) ([]Shipment, error) {
	return shipmentsWhere(sel, "s.together=? AND s.together<>0 AND s.state IN ('picking','packed') ORDER BY s.id", together)
}

// ListShipments lists shipments in some states (none: all), newest first.
func (s *Store) ListShipments(ctx context.Context, states []string, before int64, limit int) ([]Shipment, error) {
	where, args := "1=1", []any{}
	if len(states) > 0 {
		in, stateArgs := list(states)
		where += " AND s.state IN (" + in + ")"
		args = append(args, stateArgs...)
	}
	if before > 0 {
		where += " AND s.id<?"
		args = append(args, before)
	}
	return shipmentsWhere(s.selector(ctx), where+" ORDER BY s.id DESC LIMIT ?", append(args, limit)...)
}

// AddShipment writes a new shipment with its lines.
func (t *Tx) AddShipment(s *Shipment) error {
	var err error
	if s.ID, err = t.id("shipment"); err != nil {
		return err
	}
	if s.Number, err = t.Number("shipment"); err != nil {
		return err
	}
	if _, err = t.exec(`INSERT INTO shipment (id, number, order_id, location_id, state, pickers, request_id, created_at)
		VALUES (?,?,?,?,?,?,?,?)`, s.ID, s.Number, s.OrderID, s.LocationID, s.State, s.Pickers, s.RequestID, s.CreatedAt); err != nil {
		return err
	}
	for _, l := range s.Lines {
		if _, err := t.exec("INSERT INTO shipment_line (shipment_id, line_id, item_id, per, quantity, picked) VALUES (?,?,?,?,?,?)", s.ID,
			l.LineID, l.ItemID, max(l.Per, 1), l.Quantity, l.Picked); err != nil {
			return err
		}
	}
	return nil
}

// UpdateShipment writes a shipment and its lines.
func (t *Tx) UpdateShipment(s *Shipment) error {
	s.Revision++
	if _, err := t.exec("UPDATE shipment SET state=?, pickers=?, together=?, revision=? WHERE id=?", s.State, s.Pickers, s.Together,
		s.Revision, s.ID); err != nil {
		return err
	}
	for _, l := range s.Lines {
		if _, err := t.exec(`INSERT INTO shipment_line (shipment_id, line_id, item_id, per, quantity, picked) VALUES (?,?,?,?,?,?)
			ON CONFLICT DO UPDATE SET quantity=excluded.quantity, picked=excluded.picked`, s.ID, l.LineID, l.ItemID, max(l.Per, 1),
			l.Quantity, l.Picked); err != nil {
			return err
		}
	}
	return nil
}

// KeptProfile is a parcel profile, which may not be used any more.
type KeptProfile struct {
	packing.Profile
	ArchivedAt int64 // 0: it is used
}

// Profiles lists the parcel profiles that are used, smallest first.
func (s *Store) Profiles(ctx context.Context) ([]packing.Profile, error) {
	return usedProfiles(s.selector(ctx))
}

// Profiles lists the parcel profiles that are used, smallest first.
func (t *Tx) Profiles() ([]packing.Profile, error) { return usedProfiles(t.sel) }

func usedProfiles(sel selector) ([]packing.Profile, error) {
	all, err := keptProfiles(sel)
	var out []packing.Profile
	for _, p := range all {
		if p.ArchivedAt == 0 {
			out = append(out, p.Profile)
		}
	}
	return out, err
}

// KeptProfiles lists all parcel profiles, those that are used first, and of them the smallest.
func (s *Store) KeptProfiles(ctx context.Context) ([]KeptProfile, error) {
	return keptProfiles(s.selector(ctx))
}

func keptProfiles(sel selector) ([]KeptProfile, error) {
	var rows []struct {
		Code       string `db:"code"`
		Name       string `db:"name"`
		LengthMM   int64  `db:"length_mm"`
		WidthMM    int64  `db:"width_mm"`
		HeightMM   int64  `db:"height_mm"`
		TareG      int64  `db:"tare_g"`
		MaxG       int64  `db:"max_g"`
		Service    string `db:"service"`
		ArchivedAt int64  `db:"archived_at"`
	}
	if err := sel(&rows, `SELECT code, name, length_mm, width_mm, height_mm, tare_g, max_g, service, archived_at
		FROM parcel_profile ORDER BY archived_at<>0, length_mm*width_mm*height_mm, code`); err != nil {
		return nil, err
	}
	out := make([]KeptProfile, len(rows))
	for i, r := range rows {
		out[i] = KeptProfile{packing.Profile{Code: r.Code, Name: r.Name, LengthMM: r.LengthMM, WidthMM: r.WidthMM, HeightMM: r.HeightMM,
			TareG: r.TareG, MaxG: r.MaxG, Service: r.Service}, r.ArchivedAt}
	}
	return out, nil
}

// ArchiveProfile lets a profile be used no more, or again where at is zero.
func (t *Tx) ArchiveProfile(code string, at int64) error {
	n, err := t.exec("UPDATE parcel_profile SET archived_at=? WHERE code=?", at, code)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return err
}

// AddProfile writes a parcel profile.
func (t *Tx) AddProfile(p packing.Profile) error {
	_, err := t.exec(`INSERT INTO parcel_profile (code, name, length_mm, width_mm, height_mm, tare_g, max_g, service)
		VALUES (?,?,?,?,?,?,?,?)`,
		p.Code, p.Name, p.LengthMM, p.WidthMM, p.HeightMM, p.TareG, p.MaxG, p.Service)
	return err
}

// Manifest is a carrier's list of one day.
type Manifest struct {
	ID          int64  `db:"id"`
	CarrierID   int64  `db:"carrier_id"`
	CarrierCode string `db:"carrier_code"`
	CarrierName string `db:"carrier_name"`
	Day         string `db:"day"`
	State       string `db:"state"`
	Receipt     string `db:"receipt"`
	ClosedAt    int64  `db:"closed_at"`
	Parcels     int64  `db:"parcels"`
	LocationID  int64  `db:"location_id"` // 0: of several places, as it was before each had its own
	Window      string `db:"window"`      // when the carrier comes: as it was asked, then as it says
	Refused     string `db:"refused"`     // why it does not come
}

const manifestQuery = `SELECT m.id, m.carrier_id, c.code AS carrier_code, c.name AS carrier_name, m.day, m.state, m.receipt, m.closed_at,
	m.location_id, m.window, m.refused,
	(SELECT count(*) FROM parcel p WHERE p.manifest_id = m.id AND p.manifest_id <> 0) AS parcels FROM manifest m
	JOIN connection c ON c.id = m.carrier_id `

// Manifests lists manifests, newest first.
func (s *Store) Manifests(ctx context.Context, limit int) ([]Manifest, error) {
	var out []Manifest
	err := s.read.SelectContext(ctx, &out, manifestQuery+"ORDER BY m.id DESC LIMIT ?", limit)
	return out, err
}

// Manifest loads a manifest.
func (s *Store) Manifest(ctx context.Context, id int64) (Manifest, error) {
	var m Manifest
	err := s.read.GetContext(ctx, &m, manifestQuery+"WHERE m.id=?", id)
	return m, found(err)
}

// Manifest loads a manifest.
func (t *Tx) Manifest(id int64) (Manifest, error) {
	var m Manifest
	err := t.get(&m, manifestQuery+"WHERE m.id=?", id)
	return m, err
}

// OpenManifest returns the id of a carrier's open manifest of a day at a place, beginning one if there is none.
func (t *Tx) OpenManifest(carrier, location int64, day string) (int64, error) {
	var id int64
	err := t.get(&id, "SELECT id FROM manifest WHERE carrier_id=? AND location_id=? AND day=? AND state='open'", carrier, location, day)
	if err != ErrNotFound {
		return id, err
	}
	if id, err = t.id("manifest"); err != nil {
		return 0, err
	}
	_, err = t.exec("INSERT INTO manifest (id, carrier_id, location_id, day) VALUES (?,?,?,?)", id, carrier, location, day)
	return id, err
}

// SetManifest writes the state of a manifest, and when its carrier comes or why it does not.
func (t *Tx) SetManifest(m Manifest) error {
	_, err := t.exec("UPDATE manifest SET state=?, receipt=?, closed_at=?, window=?, refused=? WHERE id=?", m.State, m.Receipt, m.ClosedAt,
		m.Window, m.Refused, m.ID)
	return err
}

// DayClosed tells whether a carrier's day at a place was closed, so that what comes later goes on the next.
func (s *Store) DayClosed(ctx context.Context, carrier, location int64, day string) (closed bool, err error) {
	err = s.read.GetContext(ctx, &closed, `SELECT EXISTS (SELECT 1 FROM manifest WHERE carrier_id=? AND day=? AND location_id=?
		AND state<>'open')`, carrier, day, location)
	return closed, err
}

// PutProfile writes a parcel profile; one of the same code is replaced.
func (t *Tx) PutProfile(p packing.Profile) error {
	if _, err := t.exec("DELETE FROM parcel_profile WHERE code=?", p.Code); err != nil {
		return err
	}
	return t.AddProfile(p)
}
