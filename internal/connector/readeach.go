package connector

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"reflect"
	"time"

	"openrelay/internal/core/message"
)

// EachParcel says that a carrier is asked about each parcel on its way, one by one, by its number.
const EachParcel = "parcels"

// eachAtOnce is about how many parcels one reading asks; where there are more, the next reading follows at once.
const eachAtOnce = 200

// asked is the field under which what was asked about stands in each record that came of it.
const asked = "asked"

// checkEach refuses what has no meaning where a carrier is asked about one parcel after the other.
func (r *Read) checkEach(l *language, kind message.Feed, what string) {
	switch {
	case r.Each == "":
	case kind != message.TrackingIn:
		l.complain(0, 0, what+".each", "only of tracking in each parcel is asked about")
	case r.Files != nil:
		l.complain(0, 0, what+".each", "files are read as they come; nothing is asked about each parcel")
	case !reflect.ValueOf(r.Next).IsZero() || r.Mark.Set() || r.Begin.Set() || r.Conditional || len(r.Detail) > 0:
		l.complain(0, 0, what, "each parcel is asked about in one request: next, mark, begin, detail and conditional have no meaning there")
	}
}

// readEach asks about parcels on their way, the one that was asked about longest ago first. A number that the other side does not know
// yet is no failure, and one that it refuses keeps it from none of the others.
func (l *Line) readEach(ctx context.Context, kind message.Feed, rd Reading) (ReadTo, error) {
	out := ReadTo{Mark: rd.Mark, Check: rd.Check}
	list := []message.FollowedParcel{message.SampleFollowed}
	if rd.About != nil {
		var err error
		if list, err = rd.About(eachAtOnce); err != nil {
			return out, err
		}
	}
	for _, p := range list {
		records, err := l.askEach(ctx, kind, p)
		var f *Failure
		switch {
		case err == nil:
		case !errors.As(err, &f) || f.Temporary || f.Status == http.StatusUnauthorized || f.Status == http.StatusForbidden:
			return out, err
		case f.Status != http.StatusNotFound:
			records = []Record{{Feed: kind, Raw: []byte(p.Tracking), Err: fmt.Errorf("parcel %s: %w", p.Tracking, err)}}
		}
		if len(records) > 0 {
			if err := rd.Keep(records); err != nil {
				return out, err
			}
		}
		if rd.Asked != nil {
			if err := rd.Asked(p); err != nil {
				return out, err
			}
		}
	}
	if len(list) == eachAtOnce {
		out.Soon = time.Millisecond
	}
	return out, nil
}

// askEach asks about one parcel. What was asked about stands in each record beside what the other side says.
func (l *Line) askEach(ctx context.Context, kind message.Feed, p message.FollowedParcel) ([]Record, error) {
	f := l.Def.Feeds[kind]
	r := f.Read
	raw, err := json.Marshal(p)
	if err != nil {
		return nil, err
	}
	about, err := decode(raw)
	if err != nil {
		return nil, err
	}
	v := l.vars()
	v["msg"] = about
	a, err := l.do(ctx, &r.Request, v, page{})
	if err != nil {
		return nil, err
	}
	raws, err := r.Request.Format.cut(a.raw, r.Items)
	if err != nil {
		return nil, &Failure{Text: r.Request.Method + " " + r.Request.Path + ": " + err.Error(), Temporary: true}
	}
	var out []Record
	for _, raw := range raws {
		body, err := r.Request.Format.record(raw)
		fields, ok := body.(map[string]any)
		if err == nil && !ok {
			err = fmt.Errorf("%w holds no record with fields", ErrBody)
		}
		if err != nil {
			out = append(out, Record{Feed: kind, Raw: raw, Err: err})
			continue
		}
		whole := maps.Clone(fields)
		whole[asked] = about
		kept, err := json.Marshal(whole)
		if err != nil {
			return nil, err
		}
		rec := f.identify(kind, kept, whole, "")
		if !f.Version.Set() {
			rec.Version = 1 // what happened does not change
		}
		out = append(out, rec)
	}
	return out, nil
}
