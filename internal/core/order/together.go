package order

import (
	"fmt"
	"strings"
	"time"

	"openrelay/internal/core/message"
)

// TogetherRule says which orders to the same recipient are offered to be sent together.
type TogetherRule string

// The rules by which orders are offered to be sent together.
const (
	AnyTogether       TogetherRule = "any"
	SameChannel       TogetherRule = "same channel"
	SameDay           TogetherRule = "same day"
	SameChannelAndDay TogetherRule = "same channel and day"
	NotTogether       TogetherRule = "never"
)

// TogetherRules are those that there are.
var TogetherRules = []TogetherRule{AnyTogether, SameChannel, SameDay, SameChannelAndDay, NotTogether}

// Companion is what is to be said of sending two orders together.
type Companion struct {
	Reasons []string // what they have in common
	Mind    []string // in what they differ that whoever sends them should know
	Why     string   // why they cannot be sent together now; empty: they can
}

// TravelsWith compares an order with another that may be sent with it. ok is false where they do not go to the same recipient, or a
// rule does not want them together. zone is where days begin.
func TravelsWith(o, other *Order, rule TogetherRule, zone *time.Location) (c Companion, ok bool) {
	key := o.ShipTo.RecipientKey()
	if key == "" || o.ID == other.ID || key != other.ShipTo.RecipientKey() || o.Test != other.Test {
		return c, false
	}
	sameDay := sameDate(placed(o).In(zone), placed(other).In(zone))
	byChannel := rule == SameChannel || rule == SameChannelAndDay
	byDay := rule == SameDay || rule == SameChannelAndDay
	if rule == NotTogether || byChannel && o.ConnectionID != other.ConnectionID || byDay && !sameDay {
		return c, false
	}
	c.Reasons = append(c.Reasons, "same recipient: "+o.ShipTo.Name, "same address: "+oneLine(o))
	if there := other.ShipTo.Name + ", " + oneLine(other); there != o.ShipTo.Name+", "+oneLine(o) {
		c.Reasons = append(c.Reasons, fmt.Sprintf("written there as “%s”", there))
	}
	if sameDay {
		c.Reasons = append(c.Reasons, "ordered on the same day")
	}
	if a, b := o.Record.RequestedService, other.Record.RequestedService; a != b {
		c.Mind = append(c.Mind, fmt.Sprintf("its buyer was promised %s, this one's %s", promised(b), promised(a)))
	}
	if other.Record.GiftNote != "" {
		c.Mind = append(c.Mind, "it has a gift note")
	}
	switch err := other.Workable(); {
	case other.Kind() != message.Ship:
		c.Why = "it is not sent"
	case err != nil:
		c.Why = strings.TrimPrefix(err.Error(), ErrState.Error()+": ")
	}
	return c, true
}

func promised(service string) string {
	if service == "" {
		return "no service"
	}
	return "“" + service + "”"
}

// placed is when an order was placed, as far as its channel says.
func placed(o *Order) time.Time {
	if o.Record.PlacedAt.IsZero() {
		return o.ReceivedAt
	}
	return o.Record.PlacedAt
}

func sameDate(a, b time.Time) bool {
	return a.Year() == b.Year() && a.YearDay() == b.YearDay()
}

// oneLine writes where an order goes, without the name.
func oneLine(o *Order) string {
	a := o.ShipTo
	a.Name, a.Company = "", ""
	return strings.Join(a.Lines(), ", ")
}
