package client

import (
	"context"
	"fmt"
	"net/http"

	"openrelay/internal/wire"
)

// SettingChanges lists what was changed in the settings, newest first.
func (c *Client) SettingChanges(ctx context.Context, limit int) ([]wire.SettingChange, error) {
	return get[[]wire.SettingChange](ctx, c, fmt.Sprintf("/setting-changes?limit=%d", limit))
}

// UndoSetting puts a setting back to how it stood before a change.
func (c *Client) UndoSetting(ctx context.Context, id int64) (out []wire.SettingChange, err error) {
	_, err = c.Do(ctx, http.MethodPost, fmt.Sprintf("/setting-changes/%d/undo", id), nil, &out)
	return out, err
}
