package wire

import (
	"time"

	"openrelay/internal/core/packing"
)

// KeptProfile is a parcel profile, which may not be used any more.
type KeptProfile struct {
	packing.Profile
	ArchivedAt *time.Time `json:"archived_at,omitempty" doc:"Since when it is used no more"`
}

// ProfileText is what a parcel profile is, but for its code.
type ProfileText struct {
	Name     string `json:"name" maxLength:"120"`
	LengthMM int64  `json:"length_mm"`
	WidthMM  int64  `json:"width_mm"`
	HeightMM int64  `json:"height_mm"`
	TareG    int64  `json:"tare_g" doc:"Weight of carton and filling"`
	MaxG     int64  `json:"max_g" doc:"Heaviest content"`
	Service  string `json:"service,omitempty" maxLength:"120" doc:"Service proposed for it"`
}

// Series is how things of one kind are numbered.
type Series struct {
	Code   string `json:"code" doc:"Of what it numbers: order, shipment, purchase, transfer, count, or the series of a channel"`
	Prefix string `json:"prefix"`
	Next   int64  `json:"next" doc:"The number that comes next"`
}

// Sender is whom parcels come from.
type Sender struct {
	Code string `json:"code"`
	SenderText
	ArchivedAt *time.Time `json:"archived_at,omitempty" doc:"Since when it is used no more"`
	Warnings   []string   `json:"warnings,omitempty" doc:"What of it a joined carrier would refuse"`
}

// SenderText is what a sender is, but for its code.
type SenderText struct {
	Name    string `json:"name" maxLength:"120" doc:"As it stands on parcels"`
	Company string `json:"company,omitempty" maxLength:"120"`
	Phone   string `json:"phone,omitempty" maxLength:"60"`
	Email   string `json:"email,omitempty" maxLength:"120"`
}

// NamedCarrier is a carrier of which no more is known than its name and where its parcels are followed.
type NamedCarrier struct {
	Code string `json:"code"`
	NamedCarrierText
	ArchivedAt *time.Time `json:"archived_at,omitempty" doc:"Since when it is used no more"`
}

// NamedCarrierText is what such a carrier is, but for its code.
type NamedCarrierText struct {
	Name        string `json:"name" maxLength:"120"`
	TrackingURL string `json:"tracking_url,omitempty" maxLength:"500" doc:"Where a parcel is followed; {number} stands for its number"`
}
