package rules

import (
	"encoding/binary"
	"errors"
	"slices"
)

// Facts is what is known about an order when rules look at it. Amounts are minor units of the order's
// currency, weights grams.
type Facts struct {
	Channel     string // code of the connection
	State       string // the channel's word
	Kind        string
	FulfilledBy string // us, channel or other
	Service     string // wished by the buyer
	Payment     string
	Currency    string
	Country     string
	Postcode    string
	Town        string
	Company     string
	Buyer       string
	Email       string
	Note        string
	Via         string // push, poll, or who typed it

	Total, Goods, Shipping, Weight, Units, Lines int64

	Paid      bool
	Returning bool // the buyer bought before

	SKUs, Categories, Marks []string // of all lines, each once
}

// texts, numbers and lists in the order in which they are written; new ones go to the end.
func (f *Facts) texts() []*string {
	return []*string{&f.Channel, &f.State, &f.Kind, &f.FulfilledBy, &f.Service, &f.Payment, &f.Currency, &f.Country, &f.Postcode, &f.Town,
		&f.Company, &f.Buyer, &f.Email, &f.Note, &f.Via}
}

func (f *Facts) numbers() []*int64 {
	return []*int64{&f.Total, &f.Goods, &f.Shipping, &f.Weight, &f.Units, &f.Lines}
}

func (f *Facts) lists() []*[]string { return []*[]string{&f.SKUs, &f.Categories, &f.Marks} }

const factsForm = 1

// Append writes the facts in a compact form of our own: a version, the texts, the numbers, the truths and
// the lists, lengths and numbers as variable-length integers.
func (f *Facts) Append(b []byte) []byte {
	text := func(s string) {
		b = binary.AppendUvarint(b, uint64(len(s)))
		b = append(b, s...)
	}
	b = append(b, factsForm)
	for _, s := range f.texts() {
		text(*s)
	}
	for _, n := range f.numbers() {
		b = binary.AppendVarint(b, *n)
	}
	var truths byte
	if f.Paid {
		truths |= 1
	}
	if f.Returning {
		truths |= 2
	}
	b = append(b, truths)
	for _, l := range f.lists() {
		b = binary.AppendUvarint(b, uint64(len(*l)))
		for _, s := range *l {
			text(s)
		}
	}
	return b
}

// ErrFacts is returned for bytes that are no facts.
var ErrFacts = errors.New("these are no facts of an order")

// Read fills the facts from what Append wrote. The texts share the memory of the bytes' copy.
func (f *Facts) Read(in []byte) error {
	if len(in) == 0 || in[0] != factsForm {
		return ErrFacts
	}
	all := string(in) // one copy; all texts are parts of it
	at := 1
	bad := false
	length := func() int {
		n, w := binary.Uvarint(in[min(at, len(in)):])
		if w <= 0 || n > uint64(len(in)) {
			bad = true
			return 0
		}
		at += w
		return int(n)
	}
	text := func() string {
		n := length()
		if bad || at+n > len(in) {
			bad = true
			return ""
		}
		at += n
		return all[at-n : at]
	}
	for _, s := range f.texts() {
		*s = text()
	}
	for _, n := range f.numbers() {
		v, w := binary.Varint(in[min(at, len(in)):])
		if w <= 0 {
			return ErrFacts
		}
		*n = v
		at += w
	}
	if bad || at >= len(in) {
		return ErrFacts
	}
	f.Paid, f.Returning = in[at]&1 != 0, in[at]&2 != 0
	at++
	for _, l := range f.lists() {
		*l = (*l)[:0]
		for range length() {
			*l = append(*l, text())
			if bad {
				return ErrFacts
			}
		}
	}
	if bad || at != len(in) {
		return ErrFacts
	}
	return nil
}

// Forget takes out what tells who bought: the rest still says what rules would have done.
func (f *Facts) Forget() {
	f.Buyer, f.Email, f.Company, f.Note, f.Town = "", "", "", "", ""
	f.Postcode = f.Postcode[:min(2, len(f.Postcode))]
}

// Clone copies facts that are read into again.
func (f *Facts) Clone() *Facts {
	c := *f
	c.SKUs, c.Categories, c.Marks = slices.Clone(f.SKUs), slices.Clone(f.Categories), slices.Clone(f.Marks)
	return &c
}
