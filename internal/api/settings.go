package api

import (
	"context"
	"net/http"

	"openrelay/internal/core/person"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

// settingsRoutes tell what was changed in the settings, and undo it.
func (a *API) settingsRoutes() {
	op(a, person.SetUp, http.MethodGet, "/setting-changes", "setting-changes", "What was changed in the settings, newest first",
		a.settingChanges)
	op(a, person.SetUp, http.MethodPost, "/setting-changes/{id}/undo", "undo-setting",
		"Put a setting back to how it stood before a change", a.undoSetting)
}

// changeSetting does a change of a setting, so that it can be undone.
func (a *API) changeSetting(ctx context.Context, kind, code string, do func() error) error {
	return a.relay.ChangeSetting(ctx, kind, code, who(ctx), do)
}

type settingChangesInput struct {
	Before int64    `query:"before" doc:"Keyset: changes before this one"`
	Kinds  []string `query:"kinds" doc:"Only of these kinds, by comma"`
	Limit  int      `query:"limit" default:"50" minimum:"1" maximum:"500"`
}

func (a *API) settingChanges(ctx context.Context, in *settingChangesInput) (*body[[]wire.SettingChange], error) {
	list, err := a.relay.Store.SettingChanges(ctx, in.Kinds, in.Before, in.Limit)
	out := make([]wire.SettingChange, len(list))
	for i, c := range list {
		out[i] = wire.SettingChange{ID: c.ID, At: at(c.At), Who: c.Who, Kind: c.Kind, Code: c.Code, Made: c.Before == "",
			Name: a.settingName(ctx, c), Undoes: c.Undoes, UndoneAt: at(c.UndoneAt), Undoable: a.relay.MayUndo(c) == nil}
	}
	return &body[[]wire.SettingChange]{out}, err
}

// settingName is what that is called whose setting was changed, where its code says it to nobody.
func (a *API) settingName(ctx context.Context, c store.SettingChange) string {
	if c.Kind == "person" {
		return a.called(ctx, c.Code)
	}
	if c.Kind == shipping.ServiceTableKind || c.Kind == c.Code {
		return "" // there is one
	}
	return c.Code
}

type undoSettingInput struct {
	ID int64 `path:"id"`
}

func (a *API) undoSetting(ctx context.Context, in *undoSettingInput) (*body[[]wire.SettingChange], error) {
	if err := a.relay.UndoSetting(ctx, in.ID, who(ctx)); err != nil {
		return nil, err
	}
	return a.settingChanges(ctx, &settingChangesInput{Limit: 50})
}
