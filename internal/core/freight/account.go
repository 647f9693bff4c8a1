package freight

import (
	"fmt"
	"slices"
	"strings"
)

// Who pays the carrier.
const (
	Sender    = "sender"
	Recipient = "recipient"
	Third     = "third" // somebody else, by an account at the carrier
)

// Payers lists who may pay.
var Payers = []string{Sender, Recipient, Third}

// Account is on whose account a carrier is paid.
type Account struct {
	Code     string `json:"code" yaml:"code"               maxLength:"31"  doc:"By which rules and orders name it"`
	Carrier  string `json:"carrier" yaml:"carrier"            maxLength:"60"  doc:"Code of the carrier's connection"`
	Number   string `json:"number" yaml:"number"             maxLength:"40"  doc:"Of the account at the carrier"`
	Payer    string `json:"payer" yaml:"payer"                              doc:"Who pays by it"                                                        enum:"sender,recipient,third"`
	Name     string `json:"name,omitempty" yaml:"name,omitempty"     maxLength:"80"  doc:"Whose it is"`
	Postcode string `json:"postcode,omitempty" yaml:"postcode,omitempty" maxLength:"20"  doc:"Of whoever pays, where the carrier wants it"`
	Country  string `json:"country,omitempty" yaml:"country,omitempty"  maxLength:"2"`
	Sender   string `json:"sender,omitempty" yaml:"sender,omitempty"   maxLength:"31"  doc:"Code of the sender whose parcels go on it; empty: of no one by itself"`
	Customer string `json:"customer,omitempty" yaml:"customer,omitempty" maxLength:"120" doc:"E-mail of a customer, or @ and a domain, whose orders go on it"`
}

// Check tidies the account and refuses what cannot be.
func (a *Account) Check() error {
	for _, f := range []*string{&a.Code, &a.Carrier, &a.Number, &a.Name, &a.Postcode, &a.Sender} {
		*f = strings.TrimSpace(*f)
	}
	a.Customer = strings.ToLower(strings.TrimSpace(a.Customer))
	switch {
	case a.Code == "":
		return fmt.Errorf("code: missing")
	case a.Number == "":
		return fmt.Errorf("number: missing")
	case !slices.Contains(Payers, a.Payer):
		return fmt.Errorf("payer %q: sender, recipient or third is expected", a.Payer)
	case a.Country != "" && !country.MatchString(a.Country):
		return fmt.Errorf("country %q: two capitals are expected, such as XW", a.Country)
	case a.Customer != "" && !strings.Contains(a.Customer, "@"):
		return fmt.Errorf("customer %q: an e-mail address is expected, or @ and a domain", a.Customer)
	case a.Sender != "" && a.Payer != Sender:
		return fmt.Errorf("sender: only what the sender pays goes on an account by who sends it")
	}
	return nil
}

// Billing is what is known of a parcel that decides who pays its carrier.
type Billing struct {
	Carrier string // code
	Decided string // code of the account that a rule chose
	Payer   string // that the channel told; empty: nothing
	Number  string // of the account that the channel told
	Email   string // of the buyer
	Sender  string // code
}

// Pays picks the account on which a parcel goes: that of a rule, that which came with the order, the customer's, the sender's; nil: none,
// and the sender pays as the carrier knows it. A rule's account at another carrier does not count.
func Pays(list []Account, b Billing) *Account {
	at := func(want func(a *Account) bool) *Account {
		for i := range list {
			if list[i].Carrier == b.Carrier && want(&list[i]) {
				return &list[i]
			}
		}
		return nil
	}
	if b.Decided != "" {
		if a := at(func(a *Account) bool { return a.Code == b.Decided }); a != nil {
			return a
		}
	}
	if b.Payer != "" && b.Payer != Sender {
		return &Account{Carrier: b.Carrier, Number: b.Number, Payer: b.Payer}
	}
	email := strings.ToLower(b.Email)
	if a := at(func(a *Account) bool { return a.Customer != "" && paidFor(a.Customer, email) }); a != nil {
		return a
	}
	return at(func(a *Account) bool { return a.Payer == Sender && a.Sender != "" && a.Sender == b.Sender })
}

// paidFor tells whether an e-mail address is a customer's, or of its domain.
func paidFor(customer, email string) bool {
	if strings.HasPrefix(customer, "@") {
		return strings.HasSuffix(email, customer)
	}
	return email == customer
}
