package store

import (
	"context"
	"time"

	"openrelay/internal/core/message"
)

// Definition is a connector definition that a person added.
type Definition struct {
	Connector string `db:"connector"`
	Text      string `db:"text"`
	AddedAt   int64  `db:"added_at"`
	AddedBy   string `db:"added_by"`
}

// Definitions lists the definitions that people added, in the order in which they came.
func (s *Store) Definitions(ctx context.Context) ([]Definition, error) {
	var out []Definition
	err := s.read.SelectContext(ctx, &out,
		"SELECT connector, text, added_at, "+called("added_by")+" AS added_by FROM definition ORDER BY added_at, connector")
	return out, err
}

// PutDefinition writes a definition; one of the same code is replaced and keeps its place in the order.
func (t *Tx) PutDefinition(d Definition) error {
	_, err := t.exec(`INSERT INTO definition (connector, text, added_at, added_by) VALUES (?,?,?,?)
		ON CONFLICT (connector) DO UPDATE SET text=excluded.text, added_by=excluded.added_by`, d.Connector, d.Text, d.AddedAt, d.AddedBy)
	return err
}

// DropDefinition removes a definition with its versions.
func (t *Tx) DropDefinition(connector string) error {
	_, err := t.exec("DELETE FROM definition WHERE connector=?", connector)
	if err == nil {
		_, err = t.exec("DELETE FROM definition_version WHERE connector=?", connector)
	}
	return err
}

// DefinitionVersion is a definition that people added, as it was at a time.
type DefinitionVersion struct {
	Connector string `db:"connector"`
	Version   int64  `db:"version"` // counts from 1; the last is the one at work
	Text      string `db:"text"`
	At        int64  `db:"at"`
	Who       string `db:"who"`
	Note      string `db:"note"`
}

// AddDefinitionVersion keeps a definition as its next version, and returns its number.
func (t *Tx) AddDefinitionVersion(v DefinitionVersion) (n int64, err error) {
	if err := t.get(&n, "SELECT coalesce(max(version),0)+1 FROM definition_version WHERE connector=?", v.Connector); err != nil {
		return 0, err
	}
	_, err = t.exec("INSERT INTO definition_version (connector, version, text, at, who, note) VALUES (?,?,?,?,?,?)", v.Connector, n,
		v.Text, v.At, v.Who, v.Note)
	return n, err
}

// DefinitionVersions lists the versions of a definition, the newest first.
func (s *Store) DefinitionVersions(ctx context.Context, connector string) (list []DefinitionVersion, err error) {
	err = s.read.SelectContext(ctx, &list, "SELECT connector, version, text, at, "+called("who")+` AS who, note FROM definition_version
		WHERE connector=? ORDER BY version DESC`, connector)
	return list, err
}

// LastVersions are the numbers of the versions at work, by connector.
func (s *Store) LastVersions(ctx context.Context) (map[string]int64, error) {
	var rows []DefinitionVersion
	if err := s.read.SelectContext(ctx, &rows,
		"SELECT connector, max(version) AS version FROM definition_version GROUP BY connector"); err != nil {
		return nil, err
	}
	out := make(map[string]int64, len(rows))
	for _, r := range rows {
		out[r.Connector] = r.Version
	}
	return out, nil
}

// PutConsent keeps what a consent that was asked for needs when its answer comes. Older ones of the
// connection end, and those that nobody answered for a day.
func (t *Tx) PutConsent(state string, connection int64, sealed []byte, now time.Time) error {
	if _, err := t.exec("DELETE FROM consent WHERE connection_id=? OR made_at<?", connection, micros(now.Add(-24*time.Hour))); err != nil {
		return err
	}
	_, err := t.exec("INSERT INTO consent (state, connection_id, sealed, made_at) VALUES (?,?,?,?)", state, connection, sealed,
		micros(now))
	return err
}

// TakeConsent returns what was kept under a state, once.
func (t *Tx) TakeConsent(state string, since time.Time) (connection int64, sealed []byte, err error) {
	var row struct {
		ConnectionID int64  `db:"connection_id"`
		Sealed       []byte `db:"sealed"`
		MadeAt       int64  `db:"made_at"`
	}
	if err := t.get(&row, "SELECT connection_id, sealed, made_at FROM consent WHERE state=?", state); err != nil {
		return 0, nil, err
	}
	if _, err := t.exec("DELETE FROM consent WHERE state=?", state); err != nil {
		return 0, nil, err
	}
	if row.MadeAt < micros(since) {
		return 0, nil, ErrNotFound
	}
	return row.ConnectionID, row.Sealed, nil
}

// The states of a first import.
const (
	Looking = "looking" // records are fetched and looked at; nothing is changed
	Looked  = "looked"  // a person is to say go
	Working = "working"
	Done    = "done"
	Failed  = "failed"
)

// FirstImport brings over what a system has when it is joined.
type FirstImport struct {
	ID           int64  `db:"id"`
	ConnectionID int64  `db:"connection_id"`
	State        string `db:"state"`
	Choices      string `db:"choices"`
	BeganAt      int64  `db:"began_at"`
	EndedAt      int64  `db:"ended_at"`
	Error        string `db:"error"`
	Who          string `db:"who"`
}

const importCols = "id, connection_id, state, choices, began_at, ended_at, error, who"

// AddImport writes an import that begins to look; what an earlier one of the connection found and did
// not bring over is forgotten.
func (t *Tx) AddImport(f FirstImport) (int64, error) {
	if _, err := t.exec("DELETE FROM import_record WHERE import_id IN (SELECT id FROM first_import WHERE connection_id=?)",
		f.ConnectionID); err != nil {
		return 0, err
	}
	id, err := t.id("first_import")
	if err != nil {
		return 0, err
	}
	_, err = t.exec("INSERT INTO first_import ("+importCols+") VALUES (?,?,?,?,?,0,'',?)", id, f.ConnectionID, f.State, f.Choices,
		f.BeganAt, f.Who)
	return id, err
}

// SetImport writes how an import stands.
func (t *Tx) SetImport(id int64, state, errText string, ended time.Time) error {
	_, err := t.exec("UPDATE first_import SET state=?, error=?, ended_at=? WHERE id=?", state, errText, micros(ended), id)
	return err
}

// LastImport returns the newest import of a connection.
func (s *Store) LastImport(ctx context.Context, connection int64) (FirstImport, error) {
	var f FirstImport
	err := s.read.GetContext(ctx, &f, "SELECT "+importCols+" FROM first_import WHERE connection_id=? ORDER BY id DESC LIMIT 1", connection)
	return f, found(err)
}

// OpenImports lists the imports that a process left while it was at them.
func (s *Store) OpenImports(ctx context.Context) ([]FirstImport, error) {
	var out []FirstImport
	err := s.read.SelectContext(ctx, &out, "SELECT "+importCols+" FROM first_import WHERE state IN ('looking','working') ORDER BY id")
	return out, err
}

// ImportRecord is one record of an import, with what is to become or became of it.
type ImportRecord struct {
	ImportID  int64        `db:"import_id"`
	Kind      message.Feed `db:"kind"` // feed
	OutsideID string       `db:"outside_id"`
	Version   int64        `db:"version"`
	Raw       []byte       `db:"raw"`
	Title     string       `db:"title"`
	Verdict   string       `db:"verdict"` // found, create, match, take in, skip, conflict; then created, matched, taken in, skipped, failed
	Reason    string       `db:"reason"`
	Done      bool         `db:"done"`
}

// PutImportRecords writes what was found; a record read twice keeps its newest reading.
func (t *Tx) PutImportRecords(list []ImportRecord) error {
	for _, r := range list {
		if _, err := t.exec(`INSERT INTO import_record (import_id, kind, outside_id, version, raw, title, verdict, reason)
			VALUES (?,?,?,?,?,?,?,?)
			ON CONFLICT (import_id, kind, outside_id) DO UPDATE SET version=excluded.version, raw=excluded.raw,
			title=excluded.title, verdict=excluded.verdict, reason=excluded.reason`,
			r.ImportID, r.Kind, r.OutsideID, r.Version, r.Raw, r.Title, r.Verdict, r.Reason); err != nil {
			return err
		}
	}
	return nil
}

// SettleImportRecord writes what became of a record.
func (t *Tx) SettleImportRecord(r ImportRecord) error {
	_, err := t.exec("UPDATE import_record SET verdict=?, reason=?, done=1, raw=x'' WHERE import_id=? AND kind=? AND outside_id=?",
		r.Verdict, r.Reason, r.ImportID, r.Kind, r.OutsideID)
	return err
}

// OpenImportRecords lists the next records that were not brought over yet, listings before orders.
func (s *Store) OpenImportRecords(ctx context.Context, id int64, limit int) ([]ImportRecord, error) {
	var out []ImportRecord
	err := s.read.SelectContext(ctx, &out, `SELECT import_id, kind, outside_id, version, raw, title, verdict, reason, done
		FROM import_record WHERE import_id=? AND done=0 ORDER BY kind, outside_id LIMIT ?`, id, limit)
	return out, err
}

// OrdersToTakeIn lists orders of an import that are to be taken in and were not yet, after one of them.
func (s *Store) OrdersToTakeIn(ctx context.Context, id int64, after string, limit int) (out []ImportRecord, err error) {
	err = s.read.SelectContext(
		ctx,
		&out,
		`SELECT import_id, kind, outside_id, version, raw, title, verdict, reason, done FROM import_record
		WHERE import_id=? AND kind=? AND done=0 AND verdict='take in' AND outside_id>? ORDER BY outside_id LIMIT ?`,
		id,
		message.OrdersIn,
		after,
		limit,
	)
	return out, err
}

// ImportCount is how many records of a kind have the same verdict and reason.
type ImportCount struct {
	Kind    message.Feed `db:"kind" json:"kind"`
	Verdict string       `db:"verdict" json:"verdict"`
	Reason  string       `db:"reason" json:"reason,omitempty"`
	Done    bool         `db:"done" json:"done"`
	Count   int64        `db:"n" json:"count"`
}

// ImportCounts sums an import up.
func (s *Store) ImportCounts(ctx context.Context, id int64) ([]ImportCount, error) {
	out := []ImportCount{}
	err := s.read.SelectContext(ctx, &out, `SELECT kind, verdict, reason, done, count(*) AS n FROM import_record
		WHERE import_id=? GROUP BY kind, verdict, reason, done ORDER BY kind, n DESC`, id)
	return out, err
}

// ImportRecords lists records of an import, conflicts first.
func (s *Store) ImportRecords(ctx context.Context, id int64, limit int) ([]ImportRecord, error) {
	var out []ImportRecord
	err := s.read.SelectContext(ctx, &out, `SELECT import_id, kind, outside_id, version, x'' AS raw, title, verdict, reason,
		done FROM import_record WHERE import_id=?
		ORDER BY verdict NOT IN ('conflict','failed'), verdict IN ('skip','skipped'), kind, outside_id LIMIT ?`, id, limit)
	return out, err
}

// BenchRow is one exchange that somebody tried on the bench.
type BenchRow struct {
	ID           int64        `db:"id"`
	ConnectionID int64        `db:"connection_id"`
	At           int64        `db:"at"`
	Who          string       `db:"who"`
	Feed         message.Feed `db:"feed"`
	Message      string       `db:"message"`
	Exchange     string       `db:"exchange"` // with secrets blanked
	Error        string       `db:"error"`
}

// AddBench keeps an exchange; the oldest beyond a hundred go.
func (t *Tx) AddBench(b BenchRow) (int64, error) {
	id, err := t.id("bench")
	if err != nil {
		return 0, err
	}
	if _, err := t.exec("INSERT INTO bench (id, connection_id, at, who, feed, message, exchange, error) VALUES (?,?,?,?,?,?,?,?)", id,
		b.ConnectionID, b.At, b.Who, b.Feed, b.Message, b.Exchange, b.Error); err != nil {
		return 0, err
	}
	_, err = t.exec(`DELETE FROM bench WHERE connection_id=? AND id <= (SELECT id FROM bench WHERE connection_id=?
		ORDER BY id DESC LIMIT 1 OFFSET 100)`, b.ConnectionID, b.ConnectionID)
	return id, err
}

// Bench lists the exchanges of a connection, newest first.
func (s *Store) Bench(ctx context.Context, connection int64) ([]BenchRow, error) {
	var out []BenchRow
	err := s.read.SelectContext(
		ctx,
		&out,
		`SELECT id, connection_id, at, `+called("who")+` AS who, feed, message, exchange, error FROM bench
		WHERE connection_id=? ORDER BY id DESC LIMIT 100`,
		connection,
	)
	return out, err
}

// Customer is somebody who buys, as one connection knows them.
type Customer struct {
	ID           int64  `db:"id" json:"id"`
	ConnectionID int64  `db:"connection_id" json:"-"`
	OutsideID    string `db:"outside_id" json:"outside_id"`
	Name         string `db:"name" json:"name"`
	Email        string `db:"email" json:"email,omitempty"`
	Phone        string `db:"phone" json:"phone,omitempty"`
	Address      string `db:"address" json:"-"`
	ChangedAt    int64  `db:"changed_at" json:"-"`
}

// PutCustomer writes a customer and tells whether it is new. A customer with the same e-mail on the same
// connection is the same person.
func (t *Tx) PutCustomer(c Customer) (isNew bool, err error) {
	var id int64
	err = t.get(&id, `SELECT id FROM customer WHERE connection_id=? AND (outside_id=? OR (email=? AND email<>''))
		ORDER BY outside_id<>? LIMIT 1`, c.ConnectionID, c.OutsideID, c.Email, c.OutsideID)
	if err == ErrNotFound {
		if id, err = t.id("customer"); err != nil {
			return false, err
		}
		_, err = t.exec(`INSERT INTO customer (id, connection_id, outside_id, name, email, phone, address, changed_at)
			VALUES (?,?,?,?,?,?,?,?)`, id, c.ConnectionID, c.OutsideID, c.Name, c.Email, c.Phone, c.Address, c.ChangedAt)
		return true, err
	}
	if err != nil {
		return false, err
	}
	_, err = t.exec("UPDATE customer SET name=?, email=?, phone=?, address=?, changed_at=? WHERE id=?", c.Name, c.Email, c.Phone,
		c.Address, c.ChangedAt, id)
	return false, err
}

// CountCustomers counts the customers of a connection.
func (s *Store) CountCustomers(ctx context.Context, connection int64) (n int64, err error) {
	err = s.read.GetContext(ctx, &n, "SELECT count(*) FROM customer WHERE connection_id=?", connection)
	return n, err
}
