package wire

import (
	"time"

	"openrelay/internal/core/freight"
)

// ServiceTable says by which service parcels go.
type ServiceTable struct {
	Rows []freight.Choice `json:"rows" doc:"Those for a channel are looked at before those for all; the first that holds a delivery counts"`
	Sold []SoldService    `json:"sold" doc:"What the carriers at work sell"`
	Open []OpenService    `json:"open" doc:"Words that stand for nothing yet, the most orders first"`
}

// SoldService is a service that a carrier sells.
type SoldService struct {
	Carrier     string `json:"carrier"`
	CarrierName string `json:"carrier_name"`
	Code        string `json:"code"`
	Name        string `json:"name"`
}

// OpenService is a word for deliveries that stands for nothing yet.
type OpenService struct {
	Word       string `json:"word"`
	Connection string `json:"connection"`
	Orders     int64  `json:"orders" doc:"That wait for it"`
}

// BillLine is a line of a carrier's bill.
type BillLine struct {
	ID       int64      `json:"id"`
	Bill     string     `json:"bill" doc:"The carrier's number of it"`
	Carrier  string     `json:"carrier,omitempty"`
	Number   string     `json:"number" doc:"The tracking number that stands on it"`
	Parcel   string     `json:"parcel,omitempty" doc:"Empty: it is about none of ours"`
	Order    string     `json:"order_number,omitempty"`
	What     string     `json:"what,omitempty"`
	Amount   int64      `json:"amount" doc:"Minor units"`
	Currency string     `json:"currency"`
	WeightG  int64      `json:"weight_g,omitempty" doc:"By which it was billed"`
	State    string     `json:"state" enum:"agrees,differs,unknown,accepted,disputed"`
	Why      string     `json:"why,omitempty" doc:"It differs"`
	Note     string     `json:"note,omitempty"`
	Asked    int64      `json:"asked" doc:"When the label of its parcel was bought"`
	Billed   int64      `json:"billed" doc:"For its parcel, by all bills"`
	At       *time.Time `json:"at"`
}
