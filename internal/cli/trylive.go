package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"openrelay/internal/connector"
	"openrelay/internal/core/message"
	"openrelay/internal/core/place"
)

// liveTrial is what came of trying a definition on the system itself.
type liveTrial struct {
	Verdict connector.Verdict `json:"verdict"`
	Calls   []*livePart       `json:"calls"`
	Feeds   []*livePart       `json:"feeds"`
}

// livePart is what came of one feed or call.
type livePart struct {
	Name     string              `json:"name"`
	Request  *connector.Exchange `json:"request,omitempty"` // made, or, of a feed that goes out, as it would be made
	Made     bool                `json:"made"`
	Records  int                 `json:"records"`
	Good     int                 `json:"good"` // that can be taken in
	Mistakes map[string]int      `json:"mistakes"`
	First    *connector.Trial    `json:"first,omitempty"`
	Note     string              `json:"note,omitempty"`
	Error    string              `json:"error,omitempty"`
}

// tryLive asks the system itself, by each call and one page of each feed that is read; of feeds that go out it shows what would be
// sent. With kind only that feed is tried.
func tryLive(ctx context.Context, e *Env, p *printer, line *connector.Line, kind message.Feed) error {
	out := liveTrial{Verdict: line.Test(ctx), Calls: []*livePart{}, Feeds: []*livePart{}}
	if !out.Verdict.LetIn {
		return errors.New(withField(out.Verdict))
	}
	fmt.Fprintln(e.Err, out.Verdict.Text)
	if kind != "" && line.Def.Feeds[kind] == nil {
		return usage{fmt.Sprintf("-feed %s: there is no such feed; there are: %s", kind, message.FeedList(line.Def.Kinds()))}
	}
	for _, k := range line.Def.Kinds() {
		if kind == "" || k == kind {
			out.Feeds = append(out.Feeds, tryFeed(ctx, line, k))
		}
	}
	for _, name := range []string{"rates", "tariff", "address"} {
		if kind == "" && line.Def.Calls[name] != nil {
			out.Calls = append(out.Calls, tryCall(ctx, line, name))
		}
	}
	if kind == "" && line.Def.Calls["document"] != nil {
		out.Calls = append(out.Calls, &livePart{Name: "document", Note: "is asked for a label that was bought; nothing is bought here"})
	}
	if err := p.show(out, func(row func(...any)) { liveTable(out, kind != "", row) }); err != nil {
		return err
	}
	for _, part := range slices.Concat(out.Feeds, out.Calls) {
		if part.Error != "" && part.Made {
			return errors.New(part.Name + ": " + part.Error)
		}
	}
	return nil
}

// withField is a verdict with the field that is wrong.
func withField(v connector.Verdict) string {
	if v.Field == "" {
		return v.Text
	}
	return v.Text + " The field is " + v.Field + "."
}

func tryFeed(ctx context.Context, line *connector.Line, kind message.Feed) *livePart {
	part := &livePart{Name: string(kind), Mistakes: map[string]int{}}
	switch f := line.Def.Feeds[kind]; {
	case !connector.ComesIn(kind):
		now := time.Now()
		x, err := line.Prepare(ctx, kind, "or-sample", []any{message.Sample(kind, "or-sample", now.Format(time.DateOnly), now)})
		if err != nil {
			part.Error = "what would be sent cannot be shown: " + err.Error()
			return part
		}
		part.Request = &x
	case f.Read == nil:
		part.Note = "is pushed only; there is nothing to read"
	default:
		part.read(ctx, line, kind)
	}
	return part
}

// read reads one page and maps it.
func (part *livePart) read(ctx context.Context, line *connector.Line, kind message.Feed) {
	part.Request, part.Made = &connector.Exchange{}, true
	var first *connector.Record
	_, err := line.Read(connector.Recording(ctx, part.Request), kind, connector.Reading{Pages: 1,
		Keep: func(list []connector.Record) error {
			for _, r := range list {
				part.Records++
				if r.Err == nil {
					_, r.Err = line.MapBody(kind, "poll", r.Body)
				}
				if r.Err != nil {
					part.Mistakes[r.Err.Error()]++
					continue
				}
				part.Good++
				if first == nil {
					first = &r
				}
			}
			return nil
		}})
	if err == nil && first != nil {
		var t connector.Trial
		t, err = line.Try(kind, first.Raw)
		part.First = &t
	}
	if err != nil {
		part.Error = err.Error()
	}
}

func tryCall(ctx context.Context, line *connector.Line, name string) *livePart {
	part := &livePart{Name: name, Request: &connector.Exchange{}, Made: true, Mistakes: map[string]int{}}
	var asked any
	switch name {
	case "rates":
		asked = message.Sample(message.LabelsOut, "or-sample", time.Now().Format(time.DateOnly), time.Now())
	case "address":
		asked = place.Address{Name: "Maren Tolland", Street: "Lindenrow 14", Postcode: "41360", Town: "Harrowmere", Country: "XW"}
	}
	list, err := line.Ask(connector.Recording(ctx, part.Request), name, asked)
	if part.Records, part.Good = len(list), len(list); err != nil {
		part.Error = err.Error()
	}
	return part
}

// liveTable prints a line for each part; of a single feed all that is known of it.
func liveTable(t liveTrial, whole bool, row func(...any)) {
	row("Feed or call", "Request", "Outcome")
	for _, part := range slices.Concat(t.Feeds, t.Calls) {
		row(part.Name, part.asked(), part.outcome())
	}
	for _, part := range t.Feeds {
		for _, text := range sortedTexts(part.Mistakes) {
			row(part.Name, fmt.Sprintf("%d ×", part.Mistakes[text]), text)
		}
		if whole && part.First != nil {
			row()
			row("The first of them:")
			trialTable(*part.First, row)
		}
		if whole && !part.Made && part.Request != nil {
			row()
			row("It would be sent:")
			for _, h := range part.Request.Headers {
				row(h[0], h[1])
			}
			row(part.Request.Body)
		}
	}
}

func (part *livePart) asked() string {
	if part.Request == nil || part.Request.Method == "" {
		return "-"
	}
	return part.Request.Method + " " + part.Request.URL
}

func (part *livePart) outcome() string {
	switch {
	case part.Error != "":
		return part.Error
	case part.Note != "":
		return part.Note
	case !part.Made:
		return "would be sent so; see it whole with -feed"
	case part.Records == 0 && part.Request.Method == "":
		return "there is no file to read"
	case part.Records == 0:
		return part.status() + "no records"
	}
	text := fmt.Sprintf("%s%d of %d records can be taken in", part.status(), part.Good, part.Records)
	if part.First != nil && part.First.Mistake != "" {
		text += "; the first is wrong: " + part.First.Mistake
	}
	return text
}

// status is that of an answer; a file has none.
func (part *livePart) status() string {
	if part.Request.Status == 0 {
		return ""
	}
	return fmt.Sprintf("%d, ", part.Request.Status)
}

func sortedTexts(m map[string]int) []string {
	out := make([]string, 0, len(m))
	for text := range m {
		out = append(out, text)
	}
	slices.Sort(out)
	return out
}
