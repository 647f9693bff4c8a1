package freight

// Ladder is what a service costs a parcel by its weight: for each weight step of the zone that an address lies in, the whole price with
// all surcharges, in the order of the weights. days are working days from hand-over to arrival. It is empty where the service does not
// take the parcel whatever it weighs.
func (t *Tariff) Ladder(s *Service, p Parcel) (steps []Step, days int64) {
	for _, z := range s.Zones {
		if !z.holds(p.To) {
			continue
		}
		for _, step := range z.Steps {
			if p.WeightG = step.UpToG; s.MaxG > 0 {
				p.WeightG = min(step.UpToG, s.MaxG)
			}
			if last := len(steps) - 1; last >= 0 && steps[last].UpToG >= p.WeightG {
				break // no parcel may be heavier than the step before
			}
			q := t.quote(s, p)
			if q.Refused != "" {
				break
			}
			steps = append(steps, Step{p.WeightG, q.Price})
		}
		return steps, z.Days
	}
	return nil, 0
}
