package joining

import (
	"context"
	"fmt"
	"regexp"
	"strings"

	"openrelay/internal/core/packing"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// longest is the longest side that a parcel may have, in millimetres; heaviest what one may hold, in grams.
const (
	longest  = 10_000
	heaviest = 2_000_000
)

// checkProfile refuses a carton that there cannot be.
func checkProfile(p packing.Profile) error {
	switch {
	case !engine.ValidCode(p.Code):
		return engine.Refuse("code %q: small letters, digits and - are expected", p.Code)
	case strings.TrimSpace(p.Name) == "":
		return engine.Refuse("name: missing")
	case min(p.LengthMM, p.WidthMM, p.HeightMM) < 1 || max(p.LengthMM, p.WidthMM, p.HeightMM) > longest:
		return engine.Refuse("length_mm, width_mm, height_mm: from 1 to %d millimetres each", longest)
	case p.TareG < 0 || p.TareG > heaviest:
		return engine.Refuse("tare_g: from 0 to %d grams", heaviest)
	case p.MaxG < 1 || p.MaxG > heaviest:
		return engine.Refuse("max_g: from 1 to %d grams", heaviest)
	}
	return nil
}

// PutProfile adds a parcel profile, or changes the one of the same code; one that was archived is used again.
func (r *Joining) PutProfile(ctx context.Context, p packing.Profile, who string) error {
	p.Name, p.Service = strings.TrimSpace(p.Name), strings.TrimSpace(p.Service)
	if err := checkProfile(p); err != nil {
		return err
	}
	return r.Commit(ctx, func(ch *engine.Change) error {
		ch.Tell("profile", p.Code)
		if err := ch.PutProfile(p); err != nil {
			return err
		}
		if err := engine.AskCartons(ch); err != nil {
			return err
		}
		return r.NoteThing(ch, "company", 0, who, "profile", "Parcel profile %s: %d × %d × %d mm, holds %d g", p.Name, p.LengthMM,
			p.WidthMM, p.HeightMM, p.MaxG)
	})
}

// ArchiveProfile lets a profile be used no more, or again. Parcels that were packed with it keep it; a rule that packs with it
// stands against it.
func (r *Joining) ArchiveProfile(ctx context.Context, code string, archived bool, who string) error {
	if archived {
		if err := r.ruledBy(ctx, "profile", code); err != nil {
			return err
		}
	}
	return r.Commit(ctx, func(ch *engine.Change) error {
		ch.Tell("profile", code)
		at, text := int64(0), "Parcel profile %s is used again"
		if archived {
			at, text = ch.Now.UnixMicro(), "Parcel profile %s is used no more"
		}
		if err := ch.ArchiveProfile(code, at); err != nil {
			return fmt.Errorf("parcel profile %s: %w", code, err)
		}
		return r.NoteThing(ch, "company", 0, who, "profile", text, code)
	})
}

// ruledBy refuses to archive what a rule names.
func (r *Joining) ruledBy(ctx context.Context, do, code string) error {
	return r.Orders.RuledBy(ctx, do, code)
}

var seriesPrefix = regexp.MustCompile(`^[A-Za-z0-9/-]{0,12}$`)

// highestNext bounds the numbers of a series.
const highestNext = 999_999_999

// SetSeries says how numbers of a series begin, and which comes next. A number is never given twice.
func (r *Joining) SetSeries(ctx context.Context, s store.Series, who string) error {
	switch {
	case !engine.ValidCode(s.Code):
		return engine.Refuse("code %q: small letters, digits and - are expected", s.Code)
	case !seriesPrefix.MatchString(s.Prefix):
		return engine.Refuse("prefix %q: up to 12 letters, digits, / and - are expected", s.Prefix)
	case s.Next < 1 || s.Next > highestNext:
		return engine.Refuse("next: from 1 to %d", highestNext)
	}
	return r.Commit(ctx, func(ch *engine.Change) error {
		given, err := ch.HighestNumber(s.Code, s.Prefix)
		if err != nil {
			return err
		}
		if s.Next <= given {
			return &engine.Refused{
				Text:     fmt.Sprintf("next: %s%d was given already; %d is the least", s.Prefix, given, given+1),
				Conflict: true,
			}
		}
		if err := ch.PutSeries(s.Code, s.Prefix, s.Next); err != nil {
			return err
		}
		ch.Tell("series", s.Code)
		return r.NoteThing(ch, "company", 0, who, "number series", "Numbers of the series %s go on with %s%d", s.Code, s.Prefix, s.Next)
	})
}
