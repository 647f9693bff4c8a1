package store

import (
	"context"
	"fmt"
)

// Parcel is one carton of a shipment, with what lies in it and its label.
type Parcel struct {
	ID             int64  `db:"id"`
	Number         string `db:"number"` // the shipment's for its first parcel, the shipment's-2 and so on for the others
	ShipmentID     int64  `db:"shipment_id"`
	ShipmentNumber string `db:"shipment_number"`
	OrderID        int64  `db:"order_id"`
	OrderNumber    string `db:"order_number"`
	Buyer          string `db:"buyer"`
	LocationID     int64  `db:"location_id"`
	State          string `db:"state"`
	Profile        string `db:"profile"`
	WeightG        int64  `db:"weight_g"`
	LengthMM       int64  `db:"length_mm"`
	WidthMM        int64  `db:"width_mm"`
	HeightMM       int64  `db:"height_mm"`
	CarrierID      int64  `db:"carrier_id"`
	CarrierName    string `db:"carrier_name"`
	CarrierTold    string `db:"carrier_told"` // a carrier that is only named
	Service        string `db:"service"`
	ServiceName    string `db:"service_name"`
	Tracking       string `db:"tracking"`
	TrackingURL    string `db:"tracking_url"`
	TravelsIn      int64  `db:"travels_in"` // the parcel in whose carton it lies; 0: it has its own
	Carton         string `db:"carton"`     // number of that parcel
	Riders         string `db:"riders"`     // numbers of the parcels that lie in its carton, apart by a space
	Label          string `db:"label"`      // JSON of what the carrier answered
	Price          int64  `db:"price"`
	Currency       string `db:"currency"`
	ManifestID     int64  `db:"manifest_id"`
	CreatedAt      int64  `db:"created_at"`
	ShippedAt      int64  `db:"shipped_at"`
	DeliveredAt    int64  `db:"delivered_at"`
	ScannedAt      int64  `db:"scanned_at"`    // when its carrier first said where it is
	VoidAskedAt    int64  `db:"void_asked_at"` // since when its label is to be voided; 0: it is not
	SSCC           string `db:"sscc"`
	Error          string `db:"error"`
	WrongField     string `db:"wrong_field"` // which field its carrier refused, such as to.name; empty: not known
	ToldBy         int64  `db:"told_by"`     // connection that told of a parcel that left without our label; 0: none
	ToldID         string `db:"told_id"`     // that connection's number of the record
	Revision       int64  `db:"revision"`
	Journey        string `db:"journey"`      // state of its latest event; empty: its carrier said nothing yet
	JourneyAt      int64  `db:"journey_at"`   // of that event
	Promised       string `db:"promised"`     // YYYY-MM-DD by which it should be there; empty: nobody said
	SumG           int64  `db:"sum_g"`        // what carton and contents should weigh; 0: not known
	Billed         int64  `db:"billed"`       // what its carrier billed until now, minor units of its currency
	BilledG        int64  `db:"billed_g"`     // by which weight
	Charged        int64  `db:"charged"`      // by the freight rules, minor units of its currency
	ChargedBy      string `db:"charge_rule"`  // name of the rule; empty: none fits
	Insured        int64  `db:"insured"`      // what a person wants it insured for, minor units of its order's currency; -1: as rules say
	InsuredFor     int64  `db:"insured_for"`  // by its label
	Quoted         int64  `db:"quoted"`       // what its label was to cost when it was asked for; 0: nobody knew
	ConsignedIn    int64  `db:"consigned_in"` // the parcel in whose request it is sent with others under one number; 0: alone
	WatchAt        int64  `db:"watch_at"`     // when it is to be looked at again; 0: never
	Lines          []ParcelLine
}

// InsuredByRules is what a parcel is insured for where no person said.
const InsuredByRules = -1

// ParcelLine is a quantity of an item that lies in a parcel for an order line. Of a kit, Per make one unit of the line.
type ParcelLine struct {
	LineID   int64 `db:"line_id"`
	ItemID   int64 `db:"item_id"`
	Per      int64 `db:"per"`
	Quantity int64 `db:"quantity"`
}

// Left says whether a parcel has left the place.
func (p *Parcel) Left() bool { return p.State == Gone || p.State == Arrived }

const parcelQuery = `SELECT p.id, p.number, p.shipment_id, s.number AS shipment_number, s.order_id, o.number AS order_number, o.buyer,
	s.location_id, p.state, p.profile, p.weight_g, p.length_mm, p.width_mm, p.height_mm, p.carrier_id,
	coalesce(c.name, p.carrier_told) AS carrier_name, p.carrier_told, p.service, p.service_name, p.tracking, p.tracking_url, p.label,
	p.price, p.currency, p.manifest_id, p.created_at, p.shipped_at, p.delivered_at, p.scanned_at, p.void_asked_at,
	p.sscc, p.error, p.wrong_field, p.told_by, p.told_id, p.revision, p.travels_in, p.journey, p.journey_at, p.promised, p.watch_at,
		p.sum_g, p.billed, p.billed_g, p.charged, p.charge_rule, p.insured, p.insured_for, p.quoted, p.consigned_in,
	coalesce((SELECT x.number FROM parcel x WHERE x.id=p.travels_in),'') AS carton,
	coalesce((SELECT group_concat(x.number,' ') FROM parcel x WHERE x.travels_in=p.id AND x.travels_in<>0
		AND x.state<>'called off'),'') AS riders
	FROM parcel p JOIN shipment s ON s.id=p.shipment_id JOIN orders o ON o.id=s.order_id LEFT JOIN connection c ON c.id=p.carrier_id `

func parcelsWhere(sel selector, where string, args ...any) ([]Parcel, error) {
	var out []Parcel
	if err := sel(&out, parcelQuery+"WHERE "+where, args...); err != nil {
		return nil, err
	}
	for i := range out {
		if err := sel(&out[i].Lines, `SELECT line_id, item_id, per, quantity FROM parcel_line WHERE parcel_id=?
			ORDER BY line_id, item_id`, out[i].ID); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func oneParcel(sel selector, where string, args ...any) (Parcel, error) {
	return firstOf(parcelsWhere(sel, where, args...))
}

// byParcelNumber finds a parcel by its number or tracking number. Of those that lie in one carton, the carton's is found by the latter.
const byParcelNumber = "p.number=?1 OR (p.tracking=?1 AND p.tracking<>'') ORDER BY p.number=?1 DESC, p.travels_in, p.id LIMIT 1"

// Parcel loads a parcel by its number or tracking number.
func (t *Tx) Parcel(number string) (Parcel, error) { return oneParcel(t.sel, byParcelNumber, number) }

// Parcel loads a parcel by its number or tracking number.
func (s *Store) Parcel(ctx context.Context, number string) (Parcel, error) {
	return oneParcel(s.selector(ctx), byParcelNumber, number)
}

// ParcelByID loads a parcel.
func (t *Tx) ParcelByID(id int64) (Parcel, error) { return oneParcel(t.sel, "p.id=?", id) }

// ParcelTold loads the parcel that a record of a connection told of.
func (t *Tx) ParcelTold(connection int64, record string) (Parcel, error) {
	return oneParcel(t.sel, "p.told_by=? AND p.told_id=? AND p.told_by<>0", connection, record)
}

// ParcelsOf lists a shipment's parcels, in the order in which they were packed.
func (t *Tx) ParcelsOf(shipment int64) ([]Parcel, error) {
	return parcelsWhere(t.sel, "p.shipment_id=? ORDER BY p.id", shipment)
}

// ParcelsOf lists a shipment's parcels, in the order in which they were packed.
func (s *Store) ParcelsOf(ctx context.Context, shipment int64) ([]Parcel, error) {
	return parcelsWhere(s.selector(ctx), "p.shipment_id=? ORDER BY p.id", shipment)
}

// ParcelsOfOrder lists an order's parcels.
func (t *Tx) ParcelsOfOrder(order int64) ([]Parcel, error) {
	return parcelsWhere(t.sel, "s.order_id=? ORDER BY p.id", order)
}

// ParcelsOfOrder lists an order's parcels.
func (s *Store) ParcelsOfOrder(ctx context.Context, order int64) ([]Parcel, error) {
	return parcelsWhere(s.selector(ctx), "s.order_id=? ORDER BY p.id", order)
}

// ListParcels lists parcels with a carton of their own in some states (none: all), on a manifest (0: any), newest first.
func (s *Store) ListParcels(ctx context.Context, states []string, manifest, before int64, limit int) ([]Parcel, error) {
	where, args := "p.travels_in=0", []any{}
	if len(states) > 0 {
		in, stateArgs := list(states)
		where += " AND p.state IN (" + in + ")"
		args = append(args, stateArgs...)
	}
	if manifest > 0 {
		where += " AND p.manifest_id=?"
		args = append(args, manifest)
	}
	if before > 0 {
		where += " AND p.id<?"
		args = append(args, before)
	}
	return parcelsWhere(s.selector(ctx), where+" ORDER BY p.id DESC LIMIT ?", append(args, limit)...)
}

// ManifestParcels lists the parcels on a manifest.
func (t *Tx) ManifestParcels(id int64) ([]Parcel, error) {
	return parcelsWhere(t.sel, "p.manifest_id=? AND p.manifest_id<>0 ORDER BY p.id", id)
}

// ParcelsIn lists the parcels that lie in another's carton.
func (t *Tx) ParcelsIn(carton int64) ([]Parcel, error) {
	return parcelsWhere(t.sel, "p.travels_in=? AND p.travels_in<>0 AND p.state<>'called off' ORDER BY p.id", carton)
}

// ParcelsConsigned lists the parcels whose labels were asked for in one request, kept for one of them.
func (t *Tx) ParcelsConsigned(in int64) ([]Parcel, error) {
	return parcelsWhere(t.sel, "p.consigned_in=? AND p.consigned_in<>0 AND p.state<>'called off' ORDER BY p.id", in)
}

// AddParcel writes a new parcel of a shipment with its contents, and gives it its number.
func (t *Tx) AddParcel(p *Parcel) error {
	p.Insured = InsuredByRules
	var before int64
	err := t.get(&before, "SELECT count(*) FROM parcel WHERE shipment_id=?", p.ShipmentID)
	if err != nil {
		return err
	}
	if p.ID, err = t.id("parcel"); err != nil {
		return err
	}
	p.Number = p.ShipmentNumber
	if before > 0 {
		p.Number = fmt.Sprintf("%s-%d", p.ShipmentNumber, before+1)
	}
	if _, err := t.exec(`INSERT INTO parcel (id, number, shipment_id, state, created_at, told_by, told_id, travels_in)
		VALUES (?,?,?,?,?,?,?,?)`, p.ID, p.Number, p.ShipmentID, p.State, p.CreatedAt, p.ToldBy, p.ToldID, p.TravelsIn); err != nil {
		return fmt.Errorf("write parcel %s: %w", p.Number, err)
	}
	return t.UpdateParcel(p)
}

// UpdateParcel writes a parcel and its contents.
func (t *Tx) UpdateParcel(p *Parcel) error {
	p.Revision++
	if p.Error == "" {
		p.WrongField = ""
	}
	if _, err := t.exec(`UPDATE parcel SET state=?, profile=?, weight_g=?, length_mm=?, width_mm=?, height_mm=?, carrier_id=?,
		carrier_told=?, service=?, service_name=?, tracking=?, tracking_url=?, label=?, price=?, currency=?, manifest_id=?, shipped_at=?,
		delivered_at=?, scanned_at=?, void_asked_at=?, travels_in=?, told_by=?, told_id=?,
		sscc=?, error=?, wrong_field=?, revision=?, journey=?, journey_at=?, promised=?, watch_at=?, sum_g=?, billed=?, billed_g=?,
		charged=?, charge_rule=?, insured=?, insured_for=?, quoted=?, consigned_in=?
		WHERE id=?`,
		p.State, p.Profile, p.WeightG, p.LengthMM, p.WidthMM, p.HeightMM,
		p.CarrierID, p.CarrierTold, p.Service, p.ServiceName, p.Tracking, p.TrackingURL, p.Label, p.Price, p.Currency, p.ManifestID,
		p.ShippedAt, p.DeliveredAt, p.ScannedAt, p.VoidAskedAt, p.TravelsIn, p.ToldBy, p.ToldID,
		p.SSCC, p.Error, p.WrongField, p.Revision, p.Journey, p.JourneyAt, p.Promised, p.WatchAt,
		p.SumG, p.Billed, p.BilledG, p.Charged, p.ChargedBy, p.Insured, p.InsuredFor, p.Quoted, p.ConsignedIn, p.ID); err != nil {
		return err
	}
	if _, err := t.exec("DELETE FROM parcel_line WHERE parcel_id=?", p.ID); err != nil {
		return err
	}
	for _, l := range p.Lines {
		if l.Quantity == 0 {
			continue
		}
		if _, err := t.exec("INSERT INTO parcel_line (parcel_id, line_id, item_id, per, quantity) VALUES (?,?,?,?,?)", p.ID, l.LineID,
			l.ItemID, max(l.Per, 1), l.Quantity); err != nil {
			return err
		}
	}
	return nil
}

// VoidedLabel is a number that stood on a parcel, which had not left yet.
type VoidedLabel struct {
	ParcelID int64  `db:"parcel_id"`
	Tracking string `db:"tracking"`
	Carrier  string `db:"carrier"`
	VoidedAt int64  `db:"voided_at"`
}

// AddVoided keeps that a number does not stand on a parcel any more.
func (t *Tx) AddVoided(v VoidedLabel) error {
	_, err := t.exec(`INSERT INTO voided_label (parcel_id, tracking, carrier, voided_at) VALUES (?,?,?,?)
		ON CONFLICT DO UPDATE SET voided_at=excluded.voided_at`, v.ParcelID, v.Tracking, v.Carrier, v.VoidedAt)
	return err
}

// Voided loads what is known of a number that stood on a parcel.
func (t *Tx) Voided(tracking string) (v VoidedLabel, err error) {
	err = t.get(&v, "SELECT parcel_id, tracking, carrier, voided_at FROM voided_label WHERE tracking=? LIMIT 1", tracking)
	return v, err
}

// SizedItem is an item with its size.
type SizedItem struct {
	ID       int64  `db:"id"`
	SKU      string `db:"sku"`
	WeightG  int64  `db:"weight_g"`
	LengthMM int64  `db:"length_mm"`
	WidthMM  int64  `db:"width_mm"`
	HeightMM int64  `db:"height_mm"`
	Fragile  bool   `db:"fragile"`
	Upright  bool   `db:"upright"`
}

// allocatedToReady are the lines of some orders, given by their ids, that are ready to be sent and that nobody has begun to pick.
const allocatedToReady = `orders o JOIN allocation a ON a.line_id BETWEEN o.id*1024 AND o.id*1024+1023
	WHERE o.stage='ready' AND o.kind='ship' AND o.test=0 AND o.id IN (%s)`

// ItemsOfReady loads the items, each once, of those of some orders that are ready to be sent and that nobody has begun to pick.
func (t *Tx) ItemsOfReady(orders []int64) (out []SizedItem, err error) {
	in, args := list(orders)
	err = t.sel(&out, `SELECT id, sku, weight_g, length_mm, width_mm, height_mm, fragile, upright FROM item
		WHERE id IN (SELECT a.item_id FROM `+fmt.Sprintf(allocatedToReady, in)+`) ORDER BY id`, args...)
	return out, err
}

// ReadyWithItems tells which of some items each of some orders has, of those that are ready.
func (t *Tx) ReadyWithItems(orders, items []int64) (map[int64][]int64, error) {
	if len(items) == 0 {
		return nil, nil
	}
	in, args := list(orders)
	of, more := list(items)
	var rows []struct {
		Order int64 `db:"id"`
		Item  int64 `db:"item_id"`
	}
	err := t.sel(&rows, `SELECT DISTINCT o.id, a.item_id FROM `+fmt.Sprintf(allocatedToReady, in)+
		` AND a.item_id IN (`+of+`) ORDER BY o.id, a.item_id`, append(args, more...)...)
	out := map[int64][]int64{}
	for _, x := range rows {
		out[x.Order] = append(out[x.Order], x.Item)
	}
	return out, err
}
