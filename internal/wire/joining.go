package wire

import (
	"time"

	"openrelay/internal/connector"
	"openrelay/internal/core/message"
	"openrelay/internal/core/place"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/joining"
)

// Connector is a system that can be joined.
type Connector struct {
	Connector string                 `json:"connector"`
	Title     string                 `json:"title"`
	Side      string                 `json:"side"`
	About     string                 `json:"about"`
	Extends   string                 `json:"extends,omitempty"`
	Added     bool                   `json:"added" doc:"A person added it; the others are built in"`
	Address   string                 `json:"address,omitempty" doc:"Where it is reached, unless a person says otherwise"`
	Where     string                 `json:"where" doc:"What the address is, for whoever types it"`
	Way       string                 `json:"way" enum:"consent,client,password,key,token,files,inbound"`
	Fields    []connector.Field      `json:"fields"`
	Steps     []string               `json:"steps"`
	Sites     []connector.Site       `json:"sites"`
	Can       connector.Capabilities `json:"can"`
	Used      int64                  `json:"used" doc:"Connections that use it"`
}

// Account is what lets us in at an outside system.
type Account struct {
	ID        int64    `json:"id"`
	Connector string   `json:"connector"`
	Title     string   `json:"title"`
	Address   string   `json:"address"`
	Name      string   `json:"name" doc:"Our name on the other side"`
	Number    string   `json:"number" doc:"Our number on the other side"`
	Country   string   `json:"country,omitempty"`
	Used      []string `json:"used" doc:"Names of the connections that use it"`
}

// Join is a connection being set up, with everything the person who does it looks at.
type Join struct {
	Connection Connection       `json:"connection"`
	Connector  Connector        `json:"connector"`
	Accounts   []Account        `json:"accounts" doc:"Accounts of the same system that are there already"`
	Checklist  []joining.Check  `json:"checklist"`
	Ready      bool             `json:"ready" doc:"Nothing that is required is missing"`
	Identity   message.Identity `json:"identity" doc:"Who we are on the other side, once it let us in"`
	Last       *engine.Tested   `json:"last,omitempty" doc:"The last verdict on an access"`
	Return     string           `json:"return" doc:"Path of the return address for a consent"`
}

// ImportView is a first import and how it stands.
type ImportView struct {
	joining.Import
	Records []ImportRecord `json:"records" doc:"Up to 200, conflicts first"`
	Total   int64          `json:"total"`
	Done    int64          `json:"done"`
}

// ImportRecord is a record of a first import.
type ImportRecord struct {
	Kind    message.Feed `json:"kind"`
	Number  string       `json:"number"`
	Title   string       `json:"title"`
	Verdict string       `json:"verdict"`
	Reason  string       `json:"reason,omitempty"`
	Done    bool         `json:"done"`
}

// BenchRow is an exchange that was tried.
type BenchRow struct {
	ID       int64              `json:"id"`
	At       *time.Time         `json:"at"`
	Who      string             `json:"who"`
	Feed     message.Feed       `json:"feed"`
	Message  string             `json:"message"`
	Exchange connector.Exchange `json:"exchange"`
	Error    string             `json:"error,omitempty"`
}

// Location is a place that holds stock.
type Location struct {
	ID   int64  `json:"id"`
	Code string `json:"code"`
	Name string `json:"name"`

	Keeper   string         `json:"keeper,omitempty" doc:"Connection whose word counts there; empty: ours"`
	Address  *place.Address `json:"address,omitempty" doc:"Where it is, as far as that was said"`
	Hours    *place.Hours   `json:"hours,omitempty" doc:"When it is at work, as far as that was said"`
	Position string         `json:"position,omitempty" doc:"Latitude, longitude (decimal degrees, WGS 84), as far as it is known"`
	Bins     string         `json:"bins,omitempty" doc:"One a line or by pattern, in the order in which they are walked; empty: any"`
	Today    string         `json:"today,omitempty" doc:"Whether it is at work now, in words"`

	ArchivedAt *time.Time `json:"archived_at,omitempty" doc:"Since when it is used no more"`
	Warnings   []string   `json:"warnings,omitempty" doc:"What of it a joined carrier or till would refuse"`
}
