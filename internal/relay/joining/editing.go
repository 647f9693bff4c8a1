package joining

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"

	"openrelay/internal/connector"
	"openrelay/internal/core/message"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// DefinitionSample is something to try a definition with while it is written: for a feed that comes in the newest record that came
// over a connection by it, or nothing; for a feed that goes out a made-up message of ours.
func (r *Joining) DefinitionSample(ctx context.Context, code string, kind message.Feed) (string, error) {
	if !connector.ComesIn(kind) {
		m := message.Sample(kind, r.Prefix+"-bench", r.Today(), r.Clock())
		if m == nil {
			return "", engine.Refuse("there is no feed %q", kind)
		}
		text, err := json.MarshalIndent(m, "", "  ")
		return string(text), err
	}
	for _, c := range r.Sorted() {
		if !uses(r.Library(), c.Rec().Connector, code) {
			continue
		}
		list, _, err := r.Store.NewestKept(ctx, c.ID, kind, 1)
		if err != nil || len(list) > 0 {
			return firstRaw(list), err
		}
	}
	return "", nil
}

func firstRaw(list []store.KeptRaw) string {
	if len(list) == 0 {
		return ""
	}
	return string(list[0].Raw)
}

// errNobody is that of a call while a definition is only written.
var errNobody = errors.New("nobody is called while a definition is written")

type nobody struct{}

func (nobody) RoundTrip(*http.Request) (*http.Response, error) { return nil, errNobody }

// TryDefinition maps a sample by a definition as it is written, or shows what would be sent of a message. Nothing is kept and nobody
// is called; the error is of type connector.Mistakes where it does not pass the check.
func (r *Joining) TryDefinition(ctx context.Context, file, text string, kind message.Feed, sample string) (Tried, error) {
	def, err := connector.Load(file, []byte(text), r.Library())
	if err != nil {
		return Tried{}, err
	}
	feed := def.Feeds[kind]
	if feed == nil {
		return Tried{}, engine.Refuse("%s has no feed %q; it has: %s", def.Title, kind, engine.Join(def.Kinds()))
	}
	made := map[string]string{}
	for _, f := range def.Access.Fields {
		made[f.Name] = "(" + f.Label + ")"
	}
	line, err := connector.NewLine(
		def,
		connector.LineOptions{Base: connector.Nowhere, Login: connector.NewLogin(def, made, connector.Token{}),
			Settings: map[string]any{"time_zone": r.Zone().String()}, Client: &http.Client{Transport: nobody{}}, Now: r.Clock},
	)
	if err != nil {
		return Tried{}, err
	}
	if connector.ComesIn(kind) {
		t, err := line.Try(kind, []byte(sample))
		if err != nil {
			return Tried{Error: err.Error()}, nil
		}
		return Tried{Trial: &t}, nil
	}
	if !json.Valid([]byte(sample)) {
		return Tried{Error: "a message of ours is JSON"}, nil
	}
	if len(feed.Send.Request.Steps) > 0 {
		return Tried{
			Error: fmt.Sprintf("its steps would call %s first; the bench of a connection shows what is sent then", def.Title),
		}, nil
	}
	x, err := line.Prepare(ctx, kind, r.Prefix+"-bench", []any{json.RawMessage(sample)})
	if err != nil {
		return Tried{Error: err.Error()}, nil
	}
	return Tried{Exchange: &x}, nil
}
