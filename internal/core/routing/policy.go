package routing

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Policy is what is weighed, and how much. Amounts are minor units of the company's currency.
type Policy struct {
	On         bool                  `json:"on,omitempty" yaml:"on,omitempty" doc:"Orders are planned by it; off: the first place of the channel's list that has all is taken"`
	Parcel     int64                 `json:"parcel,omitempty" yaml:"parcel,omitempty" minimum:"0" maximum:"100000000" doc:"What a parcel costs beside its freight: carton, filling, hands"`
	Day        int64                 `json:"day,omitempty" yaml:"day,omitempty" minimum:"0" maximum:"100000000" doc:"What it is worth that a parcel arrives a day sooner"`
	LateDay    int64                 `json:"late_day,omitempty" yaml:"late_day,omitempty" minimum:"0" maximum:"100000000" doc:"What each day costs that a parcel arrives after the promised one"`
	MostPlaces int                   `json:"most_places,omitempty" yaml:"most_places,omitempty" minimum:"0" maximum:"20" doc:"An order is sent from so many places at most; 0: no bound"`
	Km100      int64                 `json:"km_100,omitempty" yaml:"km_100,omitempty" minimum:"0" maximum:"100000000" doc:"What 100 km to the address cost a parcel, beside its freight, where both positions are known"`
	MostWait   int                   `json:"most_wait,omitempty" yaml:"most_wait,omitempty" minimum:"0" maximum:"60" doc:"So many days an order may wait for goods that are to come, where that costs less; 0: none"`
	Urgent     *Urgent               `json:"urgent,omitempty" yaml:"urgent,omitempty" doc:"What is kept for urgent orders; missing: nothing"`
	Exceptions map[string]Exception  `json:"exceptions,omitempty" yaml:"exceptions,omitempty" doc:"What is weighed otherwise for the orders that a rule names, by name"`
	Places     map[string]PlaceTerms `json:"places,omitempty" yaml:"places,omitempty" doc:"What holds at a place, by its code"`

	not []string // places that send nothing of the order
}

// Urgent is what of the goods is kept for orders that are promised soon.
type Urgent struct {
	Days  int `json:"days" yaml:"days" minimum:"0" maximum:"60" doc:"An order is urgent that was promised within so many days"`
	Share int `json:"share" yaml:"share" minimum:"1" maximum:"100" doc:"Percent of what lies at a place; only urgent orders get it"`
}

// Exception is what is weighed otherwise for some orders. What is missing is as in the policy.
type Exception struct {
	Day        *int64                `json:"day,omitempty" yaml:"day,omitempty" minimum:"0" maximum:"100000000" doc:"Minor units"`
	LateDay    *int64                `json:"late_day,omitempty" yaml:"late_day,omitempty" minimum:"0" maximum:"100000000" doc:"Minor units"`
	Km100      *int64                `json:"km_100,omitempty" yaml:"km_100,omitempty" minimum:"0" maximum:"100000000" doc:"Minor units"`
	MostPlaces *int                  `json:"most_places,omitempty" yaml:"most_places,omitempty" minimum:"0" maximum:"20" doc:"0: no bound"`
	MostWait   *int                  `json:"most_wait,omitempty" yaml:"most_wait,omitempty" minimum:"0" maximum:"60" doc:"Days"`
	Urgent     bool                  `json:"urgent,omitempty" yaml:"urgent,omitempty" doc:"It gets what is kept for urgent orders"`
	Not        []string              `json:"not,omitempty" yaml:"not,omitempty" maxItems:"50" doc:"Codes of places that send nothing of it"`
	Places     map[string]PlaceTerms `json:"places,omitempty" yaml:"places,omitempty" doc:"In place of what holds at these places"`
}

// PlaceTerms are what holds at a place.
type PlaceTerms struct {
	Order  int64    `json:"order,omitempty" yaml:"order,omitempty" minimum:"0" maximum:"100000000" doc:"What it costs to have an order worked on there"`
	Unit   int64    `json:"unit,omitempty" yaml:"unit,omitempty" minimum:"0" maximum:"100000000" doc:"And each unit"`
	Keep   int64    `json:"keep,omitempty" yaml:"keep,omitempty" minimum:"0" maximum:"1000000" doc:"So many units of each item stay there for its own buyers"`
	PerDay int64    `json:"per_day,omitempty" yaml:"per_day,omitempty" minimum:"0" maximum:"1000000" doc:"So many orders can leave there on a day; what is beyond leaves later; 0: no bound"`
	Cannot []string `json:"cannot,omitempty" yaml:"cannot,omitempty" maxItems:"50" doc:"Marks of items that it does not send; serials: those with serial numbers, abroad: nothing to another country"`
}

// Marks that stand for something of the order rather than of the item.
const (
	Serials = "serials" // an item of which each unit has a serial number
	Abroad  = "abroad"  // the address is in another country than the place
)

// Check refuses a policy that could not be meant.
func (p *Policy) Check(known func(code string) bool) error {
	if err := checkPlaces(p.Places, known); err != nil {
		return err
	}
	if p.Parcel < 0 || p.Day < 0 || p.LateDay < 0 || p.MostPlaces < 0 || p.Km100 < 0 || p.MostWait < 0 {
		return fmt.Errorf("nothing may be negative")
	}
	if p.On && p.Parcel == 0 {
		return fmt.Errorf("parcel: what a parcel costs beside its freight is not said; orders would be split for nothing")
	}
	if u := p.Urgent; u != nil && (u.Share < 1 || u.Share > 100 || u.Days < 0) {
		return fmt.Errorf("urgent: a share of 1 to 100 percent and no less than 0 days are expected")
	}
	for _, name := range sortedKeys(p.Exceptions) {
		if err := p.checkException(name, known); err != nil {
			return fmt.Errorf("exceptions: %s: %w", name, err)
		}
	}
	return nil
}

func (p *Policy) checkException(name string, known func(code string) bool) error {
	if strings.TrimSpace(name) == "" || name != strings.TrimSpace(name) || len(name) > 60 {
		return fmt.Errorf("a name of 1 to 60 characters is expected, with no space around it")
	}
	e := p.Exceptions[name]
	for _, code := range e.Not {
		if !known(code) {
			return fmt.Errorf("not: there is no place %q", code)
		}
	}
	for _, n := range []*int64{e.Day, e.LateDay, e.Km100} {
		if n != nil && *n < 0 {
			return fmt.Errorf("nothing may be negative")
		}
	}
	for _, n := range []*int{e.MostPlaces, e.MostWait} {
		if n != nil && *n < 0 {
			return fmt.Errorf("nothing may be negative")
		}
	}
	if e.Urgent && p.Urgent == nil {
		return fmt.Errorf("urgent: nothing is kept for urgent orders")
	}
	return checkPlaces(e.Places, known)
}

func checkPlaces(places map[string]PlaceTerms, known func(code string) bool) error {
	for _, code := range sortedKeys(places) {
		t := places[code]
		switch {
		case !known(code):
			return fmt.Errorf("places: there is no place %q", code)
		case slices.Contains(t.Cannot, ""):
			return fmt.Errorf("places: %s: cannot: one is empty", code)
		case t.Order < 0 || t.Unit < 0 || t.Keep < 0 || t.PerDay < 0:
			return fmt.Errorf("places: %s: nothing may be negative", code)
		}
	}
	return nil
}

// Weighing is the policy as it holds for an order that is weighed by an exception; of one that is not there, the policy itself.
func (p *Policy) Weighing(name string) *Policy {
	e, ok := p.Exceptions[name]
	if !ok {
		return p
	}
	out := *p
	set(&out.Day, e.Day)
	set(&out.LateDay, e.LateDay)
	set(&out.Km100, e.Km100)
	set(&out.MostPlaces, e.MostPlaces)
	set(&out.MostWait, e.MostWait)
	if e.Urgent {
		out.Urgent = nil // nothing is kept from it
	}
	out.not = e.Not
	if len(e.Places) > 0 {
		out.Places = maps.Clone(p.Places)
		if out.Places == nil {
			out.Places = map[string]PlaceTerms{}
		}
		maps.Copy(out.Places, e.Places)
	}
	return &out
}

func set[T any](to, from *T) {
	if from != nil {
		*to = *from
	}
}

// IsUrgent tells whether an order that was promised on a day, counted from today, is urgent; -1: it was not promised.
func (p *Policy) IsUrgent(by int) bool { return p.Urgent != nil && by >= 0 && by <= p.Urgent.Days }

// cannot says why a place does not send a line; empty: it does.
func (p *Policy) cannot(place string, w *Want) string {
	for _, mark := range p.Places[place].Cannot {
		if slices.Contains(w.Marks, mark) {
			return "not sent from there: " + mark
		}
	}
	return ""
}
