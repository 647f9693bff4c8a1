package engine

import (
	"context"
	"strings"
	"time"

	"openrelay/internal/store"
)

// Company is what is known of the company itself.
type Company struct {
	Name     string `json:"name" maxLength:"200"`
	TimeZone string `json:"time_zone" maxLength:"80" doc:"IANA name of the time zone in which its days begin; empty is UTC"`
}

const (
	CompanyKey  = "company"
	TimeZoneKey = "time zone"
)

// Company tells what is known of the company.
func (r *Engine) Company(ctx context.Context) (c Company, err error) {
	if c.Name, err = r.Store.Setting(ctx, CompanyKey); err != nil {
		return c, err
	}
	c.TimeZone, err = r.Store.Setting(ctx, TimeZoneKey)
	return c, err
}

// SetCompany writes what is known of the company.
func (r *Engine) SetCompany(ctx context.Context, c Company, who string) error {
	c.Name, c.TimeZone = strings.TrimSpace(c.Name), strings.TrimSpace(c.TimeZone)
	if c.Name == "" {
		return Refuse("name: missing")
	}
	if _, err := ZoneOf(c.TimeZone); err != nil {
		return err
	}
	if err := r.Commit(ctx, func(ch *Change) error {
		if err := r.putCompany(ch, c); err != nil {
			return err
		}
		ch.Tell("company", "")
		return ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "company", What: "company",
			Text: c.Name + "; its days begin in " + Or(c.TimeZone, "UTC")})
	}); err != nil {
		return err
	}
	return r.Reload(ctx)
}

func (r *Engine) putCompany(ch *Change, c Company) error {
	if err := ch.PutSetting(CompanyKey, c.Name); err != nil {
		return err
	}
	return ch.PutSetting(TimeZoneKey, c.TimeZone)
}

func ZoneOf(name string) (*time.Location, error) {
	zone, err := time.LoadLocation(name)
	if err != nil || name == "Local" {
		return nil, Refuse("time_zone: there is no zone %q; names are such as UTC or Etc/GMT-1", name)
	}
	return zone, nil
}

// Zone is the time zone in which the company's days begin.
func (r *Engine) Zone() *time.Location {
	if z := r.zone.Load(); z != nil {
		return z
	}
	return time.UTC
}

// Now is the time on the company's clocks.
func (r *Engine) Now() time.Time { return r.Clock().In(r.Zone()) }

// Midnight is when the company's day began.
func (r *Engine) Midnight() time.Time {
	now := r.Now()
	y, m, d := now.Date()
	return time.Date(y, m, d, 0, 0, 0, 0, now.Location())
}

// Today is the day on the company's clocks.
func (r *Engine) Today() string { return r.Now().Format(time.DateOnly) }

// loadZone reads the time zone anew. One that is not known here is no reason not to work: days are then those of UTC.
func (r *Engine) loadZone(ctx context.Context) error {
	name, err := r.Store.Setting(ctx, TimeZoneKey)
	if err != nil {
		return err
	}
	zone, err := ZoneOf(name)
	if err != nil {
		r.Log.Error("the company's time zone is not known on this machine; days are those of UTC", "zone", name)
		zone = time.UTC
	}
	r.zone.Store(zone)
	return nil
}
