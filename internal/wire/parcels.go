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
