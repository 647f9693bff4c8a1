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
	Request  string     `json:"request,omitempty" doc:"Of a partner's bill: the request that it is about"`
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

// PrinterState is what a printer says of itself.
type PrinterState struct {
	Name    string   `json:"name"`
	State   string   `json:"state" doc:"idle, processing or stopped"`
	Reasons []string `json:"reasons"`
	Formats []string `json:"formats" doc:"Media types that it takes"`
}

// Printing says where a paper waits.
type Printing struct {
	Printer     string `json:"printer"`
	PrinterName string `json:"printer_name"`
	Job         int64  `json:"job"`
}

// PrintJob is a paper in the queue of a printer.
type PrintJob struct {
	ID        int64      `json:"id"`
	About     string     `json:"about" doc:"The printer, the paper and what it is of"`
	Who       string     `json:"who"`
	State     string     `json:"state" enum:"waiting,done"`
	Error     string     `json:"error,omitempty"`
	Attempts  int64      `json:"attempts"`
	CreatedAt *time.Time `json:"created_at"`
	NextAt    *time.Time `json:"next_at,omitempty"`
	EndedAt   *time.Time `json:"ended_at,omitempty"`
}
