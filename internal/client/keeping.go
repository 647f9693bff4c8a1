package client

import (
	"context"
	"net/http"

	"openrelay/internal/relay/keeping"
	"openrelay/internal/wire"
)

// Backups tells of the copies of the company file.
func (c *Client) Backups(ctx context.Context) (wire.Backups, error) {
	return get[wire.Backups](ctx, c, "/backups")
}

// SetBackups says when copies are made. An empty passphrase leaves the one that is known.
func (c *Client) SetBackups(ctx context.Context, s keeping.Schedule, passphrase string) (out wire.Backups, err error) {
	in := struct {
		keeping.Schedule
		Passphrase string `json:"passphrase,omitempty"`
	}{s, passphrase}
	_, err = c.Do(ctx, http.MethodPut, "/backups", in, &out)
	return out, err
}

// BackUp asks for a copy now.
func (c *Client) BackUp(ctx context.Context) (out wire.Backups, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/backups", nil, &out)
	return out, err
}

// RotateKey seals all secrets anew.
func (c *Client) RotateKey(ctx context.Context) (out wire.Rotated, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/keys/rotate", nil, &out)
	return out, err
}

// Retention tells for how long things stay whole, and how thinning went.
func (c *Client) Retention(ctx context.Context) (wire.Retentions, error) {
	return get[wire.Retentions](ctx, c, "/retention")
}

// SetRetention says for how many days kinds stay whole; 0: for ever.
func (c *Client) SetRetention(ctx context.Context, days map[string]int) (out wire.Retentions, err error) {
	_, err = c.Do(ctx, http.MethodPut, "/retention", map[string]any{"days": days}, &out)
	return out, err
}

// ThinNow has what is old thinned now.
func (c *Client) ThinNow(ctx context.Context) (out wire.Retentions, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/retention/thin", nil, &out)
	return out, err
}
