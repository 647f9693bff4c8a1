package api

import (
	"context"
	"net/http"

	"openrelay/internal/core/person"
	"openrelay/internal/relay/keeping"
	"openrelay/internal/wire"
)

// keepingRoutes are those of the company file itself.
func (a *API) keepingRoutes() {
	op(a, person.SetUp, http.MethodGet, "/backups", "backups", "Copies of the company file, and when they are made", a.backups)
	op(a, person.SetUp, http.MethodPut, "/backups", "set-backups", "Say when copies are made, and how many are kept", a.setBackups)
	op(a, person.SetUp, http.MethodPost, "/backups", "back-up", "Make a copy now; it is made beside the work", a.backUp)
	op(a, person.SetUp, http.MethodGet, "/retention", "retention", "For how long things stay whole, and how thinning went", a.retention)
	op(a, person.SetUp, http.MethodPut, "/retention", "set-retention", "Say for how many days kinds stay whole", a.setRetention)
	op(a, person.SetUp, http.MethodPost, "/retention/thin", "thin-now", "Thin what is old now; it goes on beside the work", a.thinNow)
	op(a, person.SetUp, http.MethodPost, "/keys/rotate", "rotate-key", "Seal all secrets anew with a new key", a.rotateKey)
}

// backupsShown is how many copies are listed; one is made a day.
const backupsShown = 400

func (a *API) backups(ctx context.Context, _ *struct{}) (*body[wire.Backups], error) {
	s, known, err := a.relay.Schedule(ctx)
	if err != nil {
		return nil, err
	}
	list, err := a.relay.Store.Backups(ctx, backupsShown)
	out := wire.Backups{Folder: a.relay.Folder() != "", Passphrase: known, Schedule: s, List: make([]wire.Backup, len(list))}
	if p := a.relay.Underway(); p != nil {
		out.Underway = &wire.BackupProgress{Done: p.Done, Total: p.Total}
	}
	for i, b := range list {
		out.List[i] = wire.Backup{ID: b.ID, Name: b.Name, BeganAt: at(b.BeganAt), EndedAt: at(b.EndedAt), Bytes: b.Bytes, Who: b.Who,
			Error: b.Error, GoneAt: at(b.GoneAt)}
	}
	return &body[wire.Backups]{out}, err
}

type setBackupsInput struct {
	Body struct {
		keeping.Schedule
		Passphrase string `json:"passphrase,omitempty" maxLength:"200" doc:"A new one; without it, the one that is known stays"`
	}
}

func (a *API) setBackups(ctx context.Context, in *setBackupsInput) (*body[wire.Backups], error) {
	if err := a.changeSetting(ctx, "backups", "", func() error {
		return a.relay.SetSchedule(ctx, in.Body.Schedule, in.Body.Passphrase, who(ctx))
	}); err != nil {
		return nil, err
	}
	return a.backups(ctx, nil)
}

func (a *API) backUp(ctx context.Context, _ *struct{}) (*body[wire.Backups], error) {
	if err := a.relay.BackupNow(ctx, who(ctx)); err != nil {
		return nil, err
	}
	return a.backups(ctx, nil)
}

func (a *API) rotateKey(ctx context.Context, _ *struct{}) (*body[wire.Rotated], error) {
	n, id, err := a.relay.RotateKey(ctx, who(ctx))
	return &body[wire.Rotated]{wire.Rotated{Secrets: n, Key: id}}, err
}

func (a *API) retention(ctx context.Context, _ *struct{}) (*body[wire.Retentions], error) {
	kinds, err := a.relay.Retentions(ctx)
	if err != nil {
		return nil, err
	}
	out := wire.Retentions{Kinds: kinds}
	if out.Last, err = a.relay.LastPass(ctx); err != nil {
		return nil, err
	}
	out.Bytes, out.Free, err = a.relay.Store.Size(ctx)
	return &body[wire.Retentions]{out}, err
}

type setRetentionInput struct {
	Body struct {
		Days map[string]int `json:"days" doc:"By kind; 0: for ever. Kinds that are not named stay as they are"`
	}
}

func (a *API) setRetention(ctx context.Context, in *setRetentionInput) (*body[wire.Retentions], error) {
	if err := a.changeSetting(ctx, "retention", "", func() error {
		return a.relay.SetRetention(ctx, in.Body.Days, who(ctx))
	}); err != nil {
		return nil, err
	}
	return a.retention(ctx, nil)
}

func (a *API) thinNow(ctx context.Context, _ *struct{}) (*body[wire.Retentions], error) {
	a.relay.ThinNow()
	return a.retention(ctx, nil)
}
