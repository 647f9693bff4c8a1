package freight

import (
	"fmt"
	"slices"
	"strings"

	"openrelay/internal/core/money"
)

// What a freight rule does with what the carrier asks.
const (
	MarkUp   = "mark up"  // by permille
	Discount = "discount" // by permille
	Add      = "add"      // an amount
	Fix      = "fix"      // at an amount
	Waive    = "waive"    // nothing is charged
)

// ChargeActions lists them.
var ChargeActions = []string{MarkUp, Discount, Add, Fix, Waive}

// ChargeRule says what is charged for a parcel, against what its carrier asks. Of several that fit, the first counts.
type ChargeRule struct {
	Name     string `json:"name" yaml:"name"               maxLength:"80"`
	When     string `json:"when,omitempty" yaml:"when,omitempty"     maxLength:"2000" doc:"Condition on the order, in CEL as rules have it; empty: always"`
	Service  string `json:"service,omitempty" yaml:"service,omitempty"  maxLength:"80"   doc:"Code of a service, or carrier/code; empty: any"`
	Do       string `json:"do" yaml:"do"                                                                                                       enum:"mark up,discount,add,fix,waive"`
	Permille int64  `json:"permille,omitempty" yaml:"permille,omitempty"                  doc:"Of mark up and discount: thousandths of what the carrier asks"                                        minimum:"0" maximum:"10000"`
	Amount   int64  `json:"amount,omitempty" yaml:"amount,omitempty"                    doc:"Of add and fix: minor units"                                                                          minimum:"0"`
	Currency string `json:"currency,omitempty" yaml:"currency,omitempty" maxLength:"3"    doc:"Of the amount; parcels priced in another are not meant"`
}

// Check tidies the rule and refuses what cannot be. Its condition is not read here.
func (r *ChargeRule) Check() error {
	r.Name, r.When, r.Service = strings.TrimSpace(r.Name), strings.TrimSpace(r.When), strings.TrimSpace(r.Service)
	r.Currency = strings.ToUpper(strings.TrimSpace(r.Currency))
	switch {
	case r.Name == "":
		return fmt.Errorf("name: missing")
	case !slices.Contains(ChargeActions, r.Do):
		return fmt.Errorf("do %q: one of %s is expected", r.Do, strings.Join(ChargeActions, ", "))
	case (r.Do == MarkUp || r.Do == Discount) && r.Permille == 0:
		return fmt.Errorf("%s: by how many thousandths is not said", r.Do)
	case r.Do == Discount && r.Permille > 1000:
		return fmt.Errorf("discount: %d thousandths are more than all of it", r.Permille)
	case (r.Do == Add || r.Do == Fix) && !money.ValidCurrency(r.Currency):
		return fmt.Errorf("%s: the currency of the amount is not said", r.Do)
	case (r.Do == MarkUp || r.Do == Discount || r.Do == Waive) && r.Amount != 0,
		(r.Do == Add || r.Do == Fix || r.Do == Waive) && r.Permille != 0:
		return fmt.Errorf("%s: thousandths go with mark up and discount, an amount with add and fix", r.Do)
	}
	return nil
}

// Fits tells whether a rule is meant for a service and a currency.
func (r *ChargeRule) Fits(carrier, service, currency string) bool {
	return (r.Service == "" || r.Service == service || r.Service == carrier+"/"+service) && (r.Currency == "" || r.Currency == currency)
}

// Charge is what a rule makes of what the carrier asks, in minor units.
func (r *ChargeRule) Charge(asked int64) int64 {
	switch r.Do {
	case MarkUp:
		return asked + money.Share(asked, r.Permille, 1000)
	case Discount:
		return asked - money.Share(asked, r.Permille, 1000)
	case Add:
		return asked + r.Amount
	case Fix:
		return r.Amount
	}
	return 0
}
