package client

import (
	"context"
	"net/http"

	"openrelay/internal/wire"
)

// KeptProfiles lists all parcel profiles, also those used no more.
func (c *Client) KeptProfiles(ctx context.Context) ([]wire.KeptProfile, error) {
	return get[[]wire.KeptProfile](ctx, c, "/kept-profiles")
}

// PutProfile adds a parcel profile, or changes it.
func (c *Client) PutProfile(ctx context.Context, code string, p wire.ProfileText) (out []wire.KeptProfile, err error) {
	_, err = c.Do(ctx, http.MethodPut, "/profiles/"+esc(code), p, &out)
	return out, err
}

// ArchiveProfile lets a parcel profile be used no more, or again.
func (c *Client) ArchiveProfile(ctx context.Context, code string, archived bool) (out []wire.KeptProfile, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/profiles/"+esc(code)+"/archive", map[string]bool{"archived": archived}, &out)
	return out, err
}

// Series lists how things are numbered.
func (c *Client) Series(ctx context.Context) ([]wire.Series, error) {
	return get[[]wire.Series](ctx, c, "/series")
}

// PutSeries says how numbers begin, and which comes next.
func (c *Client) PutSeries(ctx context.Context, code, prefix string, next int64) (out []wire.Series, err error) {
	in := map[string]any{"prefix": prefix, "next": next}
	_, err = c.Do(ctx, http.MethodPut, "/series/"+esc(code), in, &out)
	return out, err
}
