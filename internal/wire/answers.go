package wire

import (
	"time"

	"openrelay/internal/connector"
	"openrelay/internal/core/message"
	"openrelay/internal/core/person"
	"openrelay/internal/core/picking"
	"openrelay/internal/core/rules"
)

// Sent is how many listings were sent.
type Sent struct {
	Sent int64 `json:"sent"`
}

// FirstRun tells whether a company has begun.
type FirstRun struct {
	Nobody bool `json:"nobody" doc:"It has nobody who could sign in; the service printed an address at which it begins"`
}

// Counted is how many records something was done to.
type Counted struct {
	Count int64 `json:"count"`
}

// NewTarget is who is told of exceptions, as it was made.
type NewTarget struct {
	ID     int64  `json:"id"`
	Secret string `json:"secret,omitempty" doc:"Signs what is sent there; it is shown once"`
}

// ConsentPage is where a person lets us in.
type ConsentPage struct {
	Page string `json:"page" doc:"The other side's page on which the person lets us in"`
}

// Cleared is what was removed with the tests of a connection.
type Cleared struct {
	Orders int64 `json:"orders"`
}

// Sample is something to try a feed with.
type Sample struct {
	Text string `json:"text"`
}

// DefinitionCheck is what is wrong with a definition.
type DefinitionCheck struct {
	Good     bool                `json:"good"`
	Mistakes []connector.Mistake `json:"mistakes"`
	Title    string              `json:"title,omitempty"`

	Connector string         `json:"connector,omitempty" doc:"Its code"`
	Known     bool           `json:"known" doc:"One of this code is at work"`
	Added     bool           `json:"added" doc:"It may be put to work: none of the code ships with the service or lies in its folder"`
	In        []message.Feed `json:"in" doc:"Feeds that come in"`
	Out       []message.Feed `json:"out" doc:"Feeds that go out"`
}

// DefinitionVersion is a definition as it was at a time.
type DefinitionVersion struct {
	Version int64     `json:"version" doc:"Counts from 1; the largest is the one at work"`
	At      time.Time `json:"at"`
	Who     string    `json:"who"`
	Note    string    `json:"note,omitempty"`
}

// DefinitionVersionText is one version of a definition with its text.
type DefinitionVersionText struct {
	DefinitionVersion
	Text  string `json:"text"`
	Lines string `json:"lines" doc:"Lines it changed of the version before it, in the form of diff -u"`
}

// ShipmentRef is the shipment that something led to.
type ShipmentRef struct {
	Shipment string `json:"shipment"`
}

// Scanned is what a scan came to.
type Scanned struct {
	Outcome  picking.Outcome `json:"outcome"`
	Wants    []picking.Want  `json:"wants"`
	Expected string          `json:"expected"`
}

// RunRef is a run that was begun.
type RunRef struct {
	Run int64 `json:"run" doc:"Number of the run; 0 where it waits behind another"`
}

// Retried is how many messages are taken in again.
type Retried struct {
	Messages int64 `json:"messages"`
}

// RunLog is a run with its log.
type RunLog struct {
	Run Run       `json:"run"`
	Log []LogLine `json:"log"`
}

// Found is what a scanned code stands for.
type Found struct {
	Kind string `json:"kind" enum:"order,parcel,shipment,item,purchase,transfer,return,none"`
	Key  string `json:"key"`
}

// OrderNumber is the number that an order has now.
type OrderNumber struct {
	Number string `json:"number"`
}

// Merged is summary orders that were made.
type Merged struct {
	Orders []string `json:"orders" doc:"Numbers of the summaries"`
}

// Original is a message as it came, and what can be read of it.
type Original struct {
	Raw    string         `json:"raw" doc:"As it came"`
	Order  *message.Order `json:"order,omitempty" doc:"What could be read of it"`
	Reason string         `json:"reason" doc:"Why it could not be taken in"`
}

// PrivacyTerms is how long personal data is kept.
type PrivacyTerms struct {
	KeepDays int `json:"keep_days" doc:"Personal data is removed so many days after an order is done; 0: never"`
}

// Erased is from how many orders a person was removed.
type Erased struct {
	Orders int `json:"orders"`
}

// Look is that somebody looked at personal data.
type Look struct {
	ID    int64       `json:"id"`
	At    *time.Time  `json:"at"`
	Who   string      `json:"who"`
	Role  person.Role `json:"role"`
	Thing string      `json:"thing"`
	Key   string      `json:"key"`
}

// Rehearsed is what a change of the rules would have made of past orders.
type Rehearsed struct {
	rules.Rehearsal
	TookMS float64 `json:"took_ms"`
}

// Compared is how what channels show differs from what they should show.
type Compared struct {
	Compared    int          `json:"compared" doc:"Listings that were compared"`
	Differences []Difference `json:"differences"`
}

// Corrected is how many listings were corrected.
type Corrected struct {
	Corrected int `json:"corrected"`
}

// ReadBegun is which listings are being read.
type ReadBegun struct {
	Reading []string `json:"reading" doc:"Codes of the connections whose listings are being read"`
}
