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

// ArchivePlace lets a place be used no more, or again.
func (c *Client) ArchivePlace(ctx context.Context, code string, archived bool) (out []wire.Location, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/locations/"+esc(code)+"/archive", map[string]bool{"archived": archived}, &out)
	return out, err
}

// Senders lists whom parcels come from.
func (c *Client) Senders(ctx context.Context) ([]wire.Sender, error) {
	return get[[]wire.Sender](ctx, c, "/senders")
}

// PutSender adds a sender, or changes it.
func (c *Client) PutSender(ctx context.Context, code string, s wire.SenderText) (out []wire.Sender, err error) {
	_, err = c.Do(ctx, http.MethodPut, "/senders/"+esc(code), s, &out)
	return out, err
}

// ArchiveSender lets a sender be used no more, or again.
func (c *Client) ArchiveSender(ctx context.Context, code string, archived bool) (out []wire.Sender, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/senders/"+esc(code)+"/archive", map[string]bool{"archived": archived}, &out)
	return out, err
}

// NamedCarriers lists the carriers that are only named.
func (c *Client) NamedCarriers(ctx context.Context) ([]wire.NamedCarrier, error) {
	return get[[]wire.NamedCarrier](ctx, c, "/named-carriers")
}

// PutNamedCarrier adds a carrier that is only named, or changes it.
func (c *Client) PutNamedCarrier(ctx context.Context, code string, t wire.NamedCarrierText) (out []wire.NamedCarrier, err error) {
	_, err = c.Do(ctx, http.MethodPut, "/named-carriers/"+esc(code), t, &out)
	return out, err
}

// ArchiveNamedCarrier lets a carrier that is only named be used no more, or again.
func (c *Client) ArchiveNamedCarrier(ctx context.Context, code string, archived bool) (out []wire.NamedCarrier, err error) {
	_, err = c.Do(ctx, http.MethodPost, "/named-carriers/"+esc(code)+"/archive", map[string]bool{"archived": archived}, &out)
	return out, err
}

// TypeNumber lets a packed parcel leave with a tracking number that was typed, at a carrier that is only named.
func (c *Client) TypeNumber(ctx context.Context, parcel, carrier, number, service string,
	o ...Option) (out wire.ParcelView, err error) {
	in := map[string]string{"carrier": carrier, "number": number, "service": service}
	_, err = c.Do(ctx, http.MethodPost, "/parcels/"+esc(parcel)+"/typed", in, &out, o...)
	return out, err
}
