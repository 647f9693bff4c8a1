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
