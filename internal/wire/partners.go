package wire

import (
	"time"

	"openrelay/internal/core/request"
)

// Partner is whoever ships for us, and how it stands with what it was asked.
type Partner struct {
	Code        string           `json:"code"`
	Name        string           `json:"name"`
	Works       bool             `json:"works" doc:"Its connection is switched on and not paused"`
	Asked       bool             `json:"asked" doc:"Its requests are switched on: it is asked for what is placed with it"`
	Test        bool             `json:"test" doc:"It is only tried"`
	Places      []string         `json:"places" doc:"Codes of the places at which its word counts; it sends what is planned there"`
	Requests    map[string]int64 `json:"requests" doc:"How many stand at a state; of those that have ended, only of the last 30 days"`
	Differences int64            `json:"differences" doc:"Where its stock was another than our books, and nobody has looked"`
	Terms       request.Terms    `json:"terms" doc:"What was agreed"`
}

// Request is what a partner is asked to send of an order.
type Request struct {
	request.Request
	Reference   string          `json:"reference" doc:"Ours, under which it is asked, and which its answers name"`
	Partner     string          `json:"partner" doc:"Code of its connection"`
	PartnerName string          `json:"partner_name"`
	Place       string          `json:"place" doc:"Code"`
	Order       string          `json:"order"`
	Test        bool            `json:"test,omitempty" doc:"It was asked only to try it"`
	Asks        int64           `json:"asks" doc:"How often it was asked"`
	CreatedAt   *time.Time      `json:"created_at"`
	AskedAt     *time.Time      `json:"asked_at,omitempty"`
	HeardAt     *time.Time      `json:"heard_at,omitempty" doc:"When the partner last said something of it"`
	EndedAt     *time.Time      `json:"ended_at,omitempty"`
	LookAt      *time.Time      `json:"look_at,omitempty" doc:"When it is asked about again by itself"`
	Currency    string          `json:"currency"`
	Cost        int64           `json:"cost" doc:"What the partner asks for what it has sent, as agreed; minor units"`
	Billed      int64           `json:"billed" doc:"What it has billed; minor units"`
	Parcels     []RequestParcel `json:"parcels,omitempty" doc:"Of one request: what has left for it"`
}

// RequestParcel is a parcel that a partner sent.
type RequestParcel struct {
	Number   string     `json:"number"`
	State    string     `json:"state"`
	Carrier  string     `json:"carrier"`
	Tracking string     `json:"tracking"`
	URL      string     `json:"url,omitempty"`
	LeftAt   *time.Time `json:"left_at,omitempty"`
}

// PartnerItem is what a partner calls an item.
type PartnerItem struct {
	SKU     string     `json:"sku"`
	Name    string     `json:"name"`
	Code    string     `json:"code,omitempty" doc:"Empty: our SKU"`
	Ignored bool       `json:"ignored,omitempty" doc:"It is never asked for it"`
	At      *time.Time `json:"at"`
}

// StockDifference is where a partner's word of its stock was another than our books. Its word was taken.
type StockDifference struct {
	ID        int64      `json:"id"`
	Partner   string     `json:"partner"`
	Place     string     `json:"place"`
	SKU       string     `json:"sku"`
	Name      string     `json:"name"`
	Ours      int64      `json:"ours"`
	Theirs    int64      `json:"theirs"`
	At        *time.Time `json:"at"`
	SettledAt *time.Time `json:"settled_at,omitempty"`
	SettledBy string     `json:"settled_by,omitempty"`
	Note      string     `json:"note,omitempty"`
}
