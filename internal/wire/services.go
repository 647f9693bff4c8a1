package wire

import "openrelay/internal/core/freight"

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
