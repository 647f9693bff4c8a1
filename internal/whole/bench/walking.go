package main

import (
	"context"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"sync"
	"time"

	"openrelay/internal/core/picking"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

// The made-up warehouse: aisles side by side with bins on both sides, walked through from the front to the back and the other way
// in turn. Lengths are metres.
const (
	aisles     = 20
	bays       = 50 // of each side of an aisle
	aisleApart = 4.0
	bayLength  = 1.0
)

// position is where a bin stands in the walk: aisle by aisle, every second one from the back.
func position(aisle, bay, side int) int64 {
	if aisle%2 == 1 {
		bay = bays - 1 - bay
	}
	return int64(aisle*bays*2 + bay*2 + side)
}

// wayTo is how far is walked to visit bins, from the front of the first aisle and back to it: each aisle that has one is walked
// through, the last one in and out again where the picker would end at the back.
func wayTo(stops []int64) float64 {
	far := map[int]float64{} // by aisle: how far from the front its farthest bin is
	for _, p := range stops {
		aisle, bay := int(p)/(bays*2), int(p)%(bays*2)/2
		if aisle%2 == 1 {
			bay = bays - 1 - bay
		}
		far[aisle] = max(far[aisle], float64(bay+1)*bayLength)
	}
	last, through := 0, 0
	for aisle := range far {
		last = max(last, aisle)
		through++
	}
	if through == 0 {
		return 0
	}
	way := 2 * float64(last) * aisleApart
	if through%2 == 1 {
		return way + float64(through-1)*bays*bayLength + 2*far[last]
	}
	return way + float64(through)*bays*bayLength
}

// walking measures how far is walked for orders that are picked one by one, in rounds as they come, and in rounds that are chosen.
func (b *bench) walking() error {
	const slots = 12
	rng := rand.New(rand.NewPCG(13, 13))
	list := make([]picking.Candidate, b.of(3_000, 60))
	for i := range list {
		list[i].ID = int64(i)
		for range 1 + rng.IntN(4) {
			aisle := int(math.Abs(rng.NormFloat64()) * aisles / 2.5) // what is sold most lies in front
			list[i].Stops = append(list[i].Stops, position(min(aisle, aisles-1), rng.IntN(bays), rng.IntN(2)))
		}
	}
	alone, asTheyCome, chosen := 0.0, 0.0, 0.0
	for _, c := range list {
		alone += wayTo(c.Stops)
	}
	for part := range slices.Chunk(list, slots) {
		asTheyCome += wayTo(together(part))
	}
	waiting := slices.Clone(list)
	for len(waiting) > 0 {
		at := picking.Choose(waiting[:min(len(waiting), 300)], slots)
		var round []picking.Candidate
		for i := len(at) - 1; i >= 0; i-- {
			round = append(round, waiting[at[i]])
			waiting = slices.Delete(waiting, at[i], at[i]+1)
		}
		chosen += wayTo(together(round))
	}
	n := float64(len(list))
	b.add("walked for an order among 2,000 bins, in rounds of 12 as they come", asTheyCome/n, "m", alone/n, "", true)
	b.add("walked for an order among 2,000 bins, in rounds of 12 by the way", chosen/n, "m", alone/n, "less than as they come",
		chosen < asTheyCome)
	return nil
}

func together(round []picking.Candidate) (stops []int64) {
	for _, c := range round {
		stops = append(stops, c.Stops...)
	}
	return stops
}

// packers measures how soon a scan is answered while ten packers are at work and 50 orders a second come in.
func (b *bench) packers() error {
	const packers, perSecond, units = 10, 50, 8
	seconds := b.of(15, 1)
	b.out.CallRelay(b.url)
	work, err := b.toPick(packers*b.of(6, 1), units)
	if err != nil {
		return err
	}
	ctx, stop := context.WithCancel(b.ctx)
	defer stop()
	selling := make(chan error, 1)
	go func() { selling <- b.sellOn(ctx, perSecond) }()
	took := make([][]time.Duration, packers)
	errs := make([]error, packers)
	var wg sync.WaitGroup
	for i := range packers {
		wg.Go(func() { took[i], errs[i] = b.pickAt(work[i*len(work)/packers:(i+1)*len(work)/packers], units, seconds) })
	}
	wg.Wait()
	stop()
	if err := errors.Join(append(errs, <-selling)...); err != nil {
		return err
	}
	all := slices.Concat(took...)
	slices.Sort(all)
	mid, late := millis(all[len(all)/2]), millis(all[len(all)*99/100])
	fmt.Printf("packers: %d scans\n", len(all))
	b.add("a scan beside 10 packers and 50 orders a second, median", mid, "ms", 0, "10 ms", mid <= 10)
	b.add("a scan beside 10 packers and 50 orders a second, 99th percentile", late, "ms", 0, "40 ms", late <= 40)
	return nil
}

// toPick sells orders of so many units of one item, and begins to pick them.
func (b *bench) toPick(n, units int) (shipments []string, err error) {
	ids := make([]string, n)
	for i := range ids {
		s := oneOf(skus[i%len(skus)])
		s.Lines[0].Qty = int64(units)
		_, name, err := b.out.Morrow.Place(s)
		if err != nil {
			return nil, err
		}
		ids[i] = name
	}
	for _, name := range ids {
		if err := b.until(time.Minute, "an order to pick", func() (bool, error) {
			s, err := b.client.Pick(b.ctx, name)
			if err == nil {
				shipments = append(shipments, s)
			}
			return err == nil, nil // not taken in yet
		}); err != nil {
			return nil, err
		}
	}
	return shipments, nil
}

// sellOn sells at a store until the context ends.
func (b *bench) sellOn(ctx context.Context, perSecond int) error {
	tick := time.NewTicker(time.Second / time.Duration(perSecond))
	defer tick.Stop()
	for i := 0; ; i++ {
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
			if _, _, err := b.out.Morrow.Place(oneOf(skus[i%len(skus)])); err != nil {
				return err
			}
		}
	}
}

// pickAt scans the units of shipments one by one, as fast as a packer scans at most, for so many seconds.
func (b *bench) pickAt(shipments []string, units, seconds int) (took []time.Duration, err error) {
	pace := time.Duration(seconds) * time.Second / time.Duration(max(len(shipments)*units, 1))
	for _, s := range shipments {
		v, err := b.client.Shipment(b.ctx, s)
		if err != nil {
			return nil, err
		}
		for range units {
			began := time.Now()
			if _, err := b.client.Scan(b.ctx, s, v.Wants[0].SKU, "", 1); err != nil {
				return nil, err
			}
			took = append(took, time.Since(began))
			time.Sleep(max(pace-time.Since(began), 0))
		}
	}
	return took, nil
}

// typedNumbers measures how soon a channel has confirmed a tracking number that was typed, at 20 parcels a second.
func (b *bench) typedNumbers() error {
	const perSecond = 20
	n := b.of(300, 10)
	if _, err := b.client.PutNamedCarrier(b.ctx, "ferry", wire.NamedCarrierText{Name: "Ferry"}); err != nil {
		return err
	}
	b.out.CallRelay(b.url)
	parcels, orders, err := b.packedParcels(n)
	if err != nil {
		return err
	}
	took := make([]time.Duration, n)
	errs := make([]error, n)
	tick := time.NewTicker(time.Second / perSecond)
	defer tick.Stop()
	var wg sync.WaitGroup
	for i := range n {
		<-tick.C
		wg.Go(func() { took[i], errs[i] = b.typeOne(parcels[i], orders[i], i) })
	}
	wg.Wait()
	if err := errors.Join(errs...); err != nil {
		return err
	}
	slices.Sort(took)
	mid, late := took[n/2].Seconds(), took[n*99/100].Seconds()
	b.add("a typed number until the channel confirms it, 20 parcels a second, median", mid, "s", 0, "0.3 s", mid <= 0.3)
	b.add("a typed number until the channel confirms it, 20 parcels a second, 99th percentile", late, "s", 0, "1 s", late <= 1)
	return nil
}

// packedParcels are parcels without a label, and their orders.
func (b *bench) packedParcels(n int) (parcels, orders []string, err error) {
	shipments, err := b.toPick(n, 1)
	if err != nil {
		return nil, nil, err
	}
	for _, s := range shipments {
		v, err := b.client.Shipment(b.ctx, s)
		if err != nil {
			return nil, nil, err
		}
		if _, err := b.client.Scan(b.ctx, s, v.Wants[0].SKU, "", 1); err != nil {
			return nil, nil, err
		}
		carton := wire.Carton{Profile: "large", WeightG: 900, Sure: true}
		if v, err = b.client.PackUnits(b.ctx, s, wire.Packing{Carton: carton}); err != nil {
			return nil, nil, err
		}
		parcels, orders = append(parcels, v.Parcels[0].Number), append(orders, v.OrderNumber)
	}
	return parcels, orders, nil
}

// typeOne types a number and waits until the channel has confirmed it.
func (b *bench) typeOne(parcel, order string, i int) (time.Duration, error) {
	began := time.Now()
	if _, err := b.client.TypeNumber(b.ctx, parcel, "ferry", fmt.Sprintf("GF %06d", i), ""); err != nil {
		return 0, err
	}
	end := began.Add(20 * time.Second)
	for time.Now().Before(end) {
		o, err := b.client.Order(b.ctx, order)
		if err != nil {
			return 0, err
		}
		if slices.ContainsFunc(o.WriteBacks, func(w wire.Outbox) bool { return w.Feed == "dispatch out" && w.State == store.Confirmed }) {
			return time.Since(began), nil
		}
		time.Sleep(25 * time.Millisecond)
	}
	return 0, fmt.Errorf("the number of parcel %s is not confirmed", parcel)
}
