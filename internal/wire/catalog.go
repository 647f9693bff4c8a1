package wire

import (
	"time"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay/listing"
)

// Listing is where an item is listed, and what is shown there.
type Listing struct {
	ID             int64                `json:"id"`
	Connection     string               `json:"connection"`
	ConnectionName string               `json:"connection_name"`
	Number         string               `json:"number" doc:"The channel's number; empty while it has given none"`
	SKU            string               `json:"sku"`
	GTIN           string               `json:"gtin,omitempty"`
	Title          string               `json:"title"`
	Category       string               `json:"category,omitempty"`
	Price          int64                `json:"price"`
	Currency       string               `json:"currency"`
	URL            string               `json:"url,omitempty"`
	State          string               `json:"state" doc:"live, off, in review, rejected, or submitted while the channel has not answered"`
	Reason         string               `json:"reason,omitempty" doc:"Why the channel rejected it"`
	Item           string               `json:"item,omitempty" doc:"SKU of the item that it is"`
	MatchedBy      string               `json:"matched_by,omitempty"`
	Doubt          string               `json:"doubt,omitempty" doc:"Why it was not matched by itself"`
	IgnoredBy      string               `json:"ignored_by,omitempty" doc:"Who leaves it alone on purpose"`
	Shows          int64                `json:"shows" doc:"What the channel shows, as far as we know"`
	ShownAt        *time.Time           `json:"shown_at,omitempty"`
	Told           *int64               `json:"told,omitempty" doc:"What it last accepted from us"`
	ToldAt         *time.Time           `json:"told_at,omitempty"`
	Allowed        int64                `json:"allowed" doc:"What the offer policy allows now"`
	On             bool                 `json:"on" doc:"Whether quantities are sent there"`
	Published      bool                 `json:"published" doc:"Whether its texts and price are ours"`
	Own            listing.Own          `json:"own" doc:"What is said on this channel only"`
	Policy         stock.Override       `json:"policy" doc:"How its quantity differs from the channel's policy"`
	Suggestions    []catalog.Suggestion `json:"suggestions,omitempty"`
	Waiting        int64                `json:"waiting,omitempty" doc:"Orders held until it is matched"`
}
