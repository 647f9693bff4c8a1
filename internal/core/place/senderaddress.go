package place

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"image/png"
	"strings"
)

// SenderAddress is what a sender has of its own: an address other than that of the place, one to which parcels come back, and a logo.
type SenderAddress struct {
	Sender   string  `json:"sender" yaml:"sender"              maxLength:"31"     doc:"Code"`
	Address  Address `json:"address,omitzero" yaml:"address,omitempty"                      doc:"That parcels show instead of the place's; empty: the place's"`
	ReturnTo Address `json:"return_to,omitzero" yaml:"return_to,omitempty"                    doc:"Where parcels come back that cannot be delivered; empty: where they come from"`
	Logo     string  `json:"logo,omitempty" yaml:"logo,omitempty"      maxLength:"200000" doc:"PNG in base64, printed on packing slips"`
}

// mostLogo bounds the sides of a logo, in dots.
const mostLogo = 2000

// Check tidies the row and refuses what cannot be printed.
func (s *SenderAddress) Check() error {
	for _, a := range []*Address{&s.Address, &s.ReturnTo} {
		a.Normal()
		if *a == (Address{}) {
			continue
		}
		check := *a
		if check.Name == "" {
			check.Name = s.Sender
		}
		if problems := check.Problems(); len(problems) > 0 {
			return fmt.Errorf("address of %s: %s", s.Sender, strings.Join(problems, "; "))
		}
	}
	if s.Logo == "" {
		return nil
	}
	raw, err := base64.StdEncoding.DecodeString(s.Logo)
	if err != nil {
		return fmt.Errorf("logo of %s: it is no base64", s.Sender)
	}
	c, err := png.DecodeConfig(bytes.NewReader(raw))
	if err != nil {
		return fmt.Errorf("logo of %s: a PNG is expected", s.Sender)
	}
	if c.Width > mostLogo || c.Height > mostLogo || c.Width == 0 || c.Height == 0 {
		return fmt.Errorf("logo of %s: %d × %d dots; at most %d a side are expected", s.Sender, c.Width, c.Height, mostLogo)
	}
	return nil
}
