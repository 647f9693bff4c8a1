package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/http/httptest"
	"time"

	"openrelay/internal/connector"
	"openrelay/internal/core/freight"
	"openrelay/internal/core/message"
	"openrelay/internal/core/place"
	"openrelay/internal/demo"
)

// freight holds our own sum of a tariff against what the carrier asks, for random parcels, and measures how long the sums take.
func (b *bench) freight() error {
	out := demo.NewOutside(0, true)
	for _, c := range []struct {
		code    string
		server  *httptest.Server
		secrets map[string]string
	}{
		{"plover-post", httptest.NewServer(out.Plover), demo.PloverAccess},
		{"ironway", httptest.NewServer(out.Ironway), demo.IronwayAccess},
		{"swift-heron", httptest.NewServer(out.Heron), demo.HeronAccess},
	} {
		line, err := unhurried(c.code, c.server.URL, c.secrets)
		if err == nil {
			err = b.sums(line, b.of(20_000, 200))
		}
		c.server.Close()
		if err != nil {
			return err
		}
	}
	return nil
}

// unhurried is a line to a system that may be asked as often as one likes.
func unhurried(code, url string, secrets map[string]string) (*connector.Line, error) {
	lib, err := connector.BuiltIn()
	if err != nil {
		return nil, err
	}
	def, err := lib[code].With("limits: { per_second: 1000000, burst: 1000000 }")
	if err != nil {
		return nil, err
	}
	return connector.NewLine(def, connector.LineOptions{Base: url, Login: connector.NewLogin(def, secrets, connector.Token{}),
		Client: connector.Guard{Allowed: connector.Loopback}.Client()})
}

// sums prices parcels at a carrier and by ourselves.
func (b *bench) sums(line *connector.Line, parcels int) error {
	ctx := context.Background()
	list, err := line.Ask(ctx, "tariff", nil)
	if err != nil {
		return err
	}
	tariff := list[0].(*freight.Tariff)
	rng := rand.New(rand.NewPCG(12, 34))
	same, offers := 0, 0
	var own time.Duration
	for range parcels {
		p := randomParcel(rng)
		answers, err := line.Ask(ctx, "rates", p)
		if err != nil {
			return err
		}
		asked := freight.Parcel{To: p.To, WeightG: p.WeightG, LengthMM: p.LengthMM, WidthMM: p.WidthMM, HeightMM: p.HeightMM,
			Insured: p.Insured, InsuredIn: p.InsuredIn}
		begin := time.Now()
		quotes := map[string]freight.Quote{}
		for _, s := range tariff.Services {
			quotes[s.Code] = tariff.Quote(s.Code, asked)
		}
		own += time.Since(begin)
		for _, a := range answers {
			r := a.(*message.Rate)
			q := quotes[r.Service]
			offers++
			if (q.Refused == "") == (r.Refused == "") && (r.Refused != "" || q.Price == r.Price) {
				same++
			}
		}
	}
	b.add(fmt.Sprintf("%s: our own sum is the carrier's, of %d offers for %d random parcels", line.Def.Title, offers, parcels),
		100*float64(same)/float64(offers), "%", 0, "100 %", same == offers)
	each := milliseconds(own) / float64(parcels)
	b.add(line.Def.Title+": all its services for a parcel from its tariff alone", each, "ms", 0, "5 ms or less", each <= 5)
	return nil
}

// randomParcel is one of any size that may be too heavy, too long, far away or abroad.
func randomParcel(rng *rand.Rand) message.Parcel {
	p := message.Parcel{To: place.Address{Country: []string{"XW", "XW", "XE", "XQ"}[rng.IntN(4)],
		Postcode: []string{"41207", "42001", "60277", "97310", "99051", "208114"}[rng.IntN(6)],
		Company:  []string{"", "Orchard Ltd"}[rng.IntN(2)]},
		WeightG: rng.Int64N(36_000), LengthMM: 1 + rng.Int64N(2200), WidthMM: 1 + rng.Int64N(600), HeightMM: 1 + rng.Int64N(500),
		Handover: "2026-11-20"}
	if rng.IntN(3) == 0 {
		p.Insured, p.InsuredIn = 1+rng.Int64N(300_000), []string{"EUR", "EUR", "EUR", "GBP"}[rng.IntN(4)]
	}
	return p
}
