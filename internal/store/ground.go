package store

import (
	"context"
	"encoding/json"

	"openrelay/internal/core/place"
)

// Sender is whom parcels come from: a brand of the company, or somebody whom it ships for.
type Sender struct {
	Code       string `db:"code"`
	Name       string `db:"name"`
	Company    string `db:"company"`
	Phone      string `db:"phone"`
	Email      string `db:"email"`
	ArchivedAt int64  `db:"archived_at"` // 0: in use
}

// From is a place's address as the sender's parcels show it.
func (s Sender) From(a place.Address) place.Address {
	a.Name = s.Name
	for _, f := range []struct {
		to   *string
		said string
	}{{&a.Company, s.Company}, {&a.Phone, s.Phone}, {&a.Email, s.Email}} {
		if f.said != "" {
			*f.to = f.said
		}
	}
	return a
}

// Senders lists all senders, those in use first.
func (s *Store) Senders(ctx context.Context) (list []Sender, err error) {
	err = s.read.SelectContext(ctx, &list,
		"SELECT code, name, company, phone, email, archived_at FROM sender ORDER BY archived_at<>0, name, code")
	return list, err
}

// PutSender adds a sender or changes the one of its code, which is in use from then on.
func (t *Tx) PutSender(s Sender) error {
	_, err := t.exec("INSERT OR REPLACE INTO sender (code, name, company, phone, email) VALUES (?,?,?,?,?)", s.Code, s.Name, s.Company,
		s.Phone, s.Email)
	return err
}

// ArchiveSender lets a sender be used no more, or again where at is zero.
func (t *Tx) ArchiveSender(code string, at int64) error {
	return t.touch("UPDATE sender SET archived_at=? WHERE code=?", at, code)
}

// NamedCarrier is a carrier of which no more is known than its name and where its parcels are followed.
type NamedCarrier struct {
	Code        string `db:"code"`
	Name        string `db:"name"`
	TrackingURL string `db:"tracking_url"` // {number} stands for the tracking number
	ArchivedAt  int64  `db:"archived_at"`  // 0: in use
}

// NamedCarriers lists all of them, those in use first.
func (s *Store) NamedCarriers(ctx context.Context) (list []NamedCarrier, err error) {
	err = s.read.SelectContext(ctx, &list,
		"SELECT code, name, tracking_url, archived_at FROM named_carrier ORDER BY archived_at<>0, name, code")
	return list, err
}

// PutNamedCarrier adds one or changes the one of its code, which is in use from then on.
func (t *Tx) PutNamedCarrier(c NamedCarrier) error {
	_, err := t.exec("INSERT OR REPLACE INTO named_carrier (code, name, tracking_url) VALUES (?,?,?)", c.Code, c.Name, c.TrackingURL)
	return err
}

// ArchiveNamedCarrier lets one be used no more, or again where at is zero.
func (t *Tx) ArchiveNamedCarrier(code string, at int64) error {
	return t.touch("UPDATE named_carrier SET archived_at=? WHERE code=?", at, code)
}

func jsonList(list []string) string {
	text, _ := json.Marshal(append([]string{}, list...)) // texts can always be written; none are a list, too
	return string(text)
}

// touch changes a row; without one it is ErrNotFound.
func (t *Tx) touch(query string, args ...any) error {
	n, err := t.exec(query, args...)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return err
}

// PlaceBins lists the bins of a place in the order in which they are walked. None: whatever is written is a bin there.
func (s *Store) PlaceBins(ctx context.Context, location int64) (list []string, err error) {
	err = s.read.SelectContext(ctx, &list, "SELECT bin FROM place_bin WHERE location_id=? ORDER BY position", location)
	return list, err
}

// BinPositions tells where bins of a place stand in the walk, by name; those that are none of its bins are left out.
func (t *Tx) BinPositions(location int64, bins []string) (map[string]int64, error) {
	return binPositions(t.sel, location, bins)
}

// BinPositions tells where bins of a place stand in the walk.
func (s *Store) BinPositions(ctx context.Context, location int64, bins []string) (map[string]int64, error) {
	return binPositions(s.selector(ctx), location, bins)
}

func binPositions(sel selector, location int64, bins []string) (map[string]int64, error) {
	var rows []struct {
		Bin      string `db:"bin"`
		Position int64  `db:"position"`
	}
	if err := sel(&rows, "SELECT bin, position FROM place_bin WHERE location_id=? AND bin IN (SELECT value FROM json_each(?))", location,
		jsonList(bins)); err != nil {
		return nil, err
	}
	out := map[string]int64{}
	for _, r := range rows {
		out[r.Bin] = r.Position
	}
	return out, nil
}

// BinKnown tells whether goods may lie in a bin of a place: those that list none take any.
func (t *Tx) BinKnown(location int64, bin string) (known bool, err error) {
	err = t.get(&known, `SELECT EXISTS (SELECT 1 FROM place_bin WHERE location_id=? AND bin=?) OR
		NOT EXISTS (SELECT 1 FROM place_bin WHERE location_id=?)`, location, bin, location)
	return known, err
}

// StrayBins lists bins of a place in which goods lie and which are not among those given.
func (t *Tx) StrayBins(location int64, bins []string) (list []string, err error) {
	var rows []struct {
		Bin string `db:"bin"`
	}
	err = t.sel(&rows, `SELECT DISTINCT bin FROM bin_level WHERE location_id=? AND on_hand<>0 AND bin<>'' AND
		bin NOT IN (SELECT value FROM json_each(?)) ORDER BY bin LIMIT 6`, location, jsonList(bins))
	for _, r := range rows {
		list = append(list, r.Bin)
	}
	return list, err
}

// PutPlaceBins writes the bins of a place, in the order in which they are walked.
func (t *Tx) PutPlaceBins(location int64, bins []string) error {
	if _, err := t.exec("DELETE FROM place_bin WHERE location_id=?", location); err != nil {
		return err
	}
	_, err := t.exec("INSERT INTO place_bin (location_id, bin, position) SELECT ?, value, key FROM json_each(?)", location, jsonList(bins))
	return err
}

// HoldsStock tells whether a place has, has promised or expects goods.
func (t *Tx) HoldsStock(location int64) (holds bool, err error) {
	err = t.get(&holds, `SELECT EXISTS (SELECT 1 FROM level WHERE location_id=? AND
		(on_hand<>0 OR allocated<>0 OR on_order<>0 OR in_transit<>0))`, location)
	return holds, err
}
