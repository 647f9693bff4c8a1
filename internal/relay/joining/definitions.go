package joining

import (
	"context"
	"fmt"
	"slices"

	"openrelay/internal/connector"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// AddDefinition adds a connector definition, or replaces one that a person added before; connections
// that use it work by the new one at once.
func (r *Joining) AddDefinition(ctx context.Context, file, text, who string) (*connector.Definition, error) {
	def, err := connector.Load(file, []byte(text), r.Library())
	if err != nil {
		return nil, err
	}
	if !r.Added(def.Connector) {
		return nil, &engine.Refused{Text: fmt.Sprintf("there is a connector %q already; extend it under another code", def.Connector),
			Conflict: true}
	}
	recs, err := r.Store.Connections(ctx)
	if err != nil {
		return nil, err
	}
	for _, rec := range recs {
		if rec.Connector != def.Connector {
			continue
		}
		if _, err := def.With(rec.Overrides); err != nil {
			return nil, &engine.Refused{Text: fmt.Sprintf("the overrides of %s do not fit it: %v", rec.Name, err), Conflict: true}
		}
		if old := r.Connector(def.Connector); old != nil && !slices.Equal(old.Kinds(), def.Kinds()) {
			return nil, &engine.Refused{Text: fmt.Sprintf("%s uses it; its feeds cannot be added to or removed while it does", rec.Name),
				Conflict: true}
		}
	}
	if err := r.Commit(ctx, func(ch *engine.Change) error {
		ch.Tell("connection", "")
		if err := ch.PutDefinition(store.Definition{Connector: def.Connector, Text: text, AddedAt: ch.Now.UnixMicro(),
			AddedBy: who}); err != nil {
			return err
		}
		return ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "connector", What: "definition",
			Text: fmt.Sprintf("Connector %s, %s, added", def.Connector, def.Title)})
	}); err != nil {
		return nil, err
	}
	if err := r.LoadDefinitions(ctx); err != nil {
		return nil, err
	}
	return def, r.RemakeAll(ctx)
}

// DropDefinition removes a definition that a person added and nobody uses.
func (r *Joining) DropDefinition(ctx context.Context, code, who string) error {
	list, err := r.Store.Definitions(ctx)
	if err != nil {
		return err
	}
	known := false
	for _, d := range list {
		known = known || d.Connector == code
	}
	if !known {
		return fmt.Errorf("added connector %s: %w", code, store.ErrNotFound)
	}
	for _, c := range r.All() {
		if c.Rec().Connector == code {
			return &engine.Refused{Text: fmt.Sprintf("%s uses it", c.Rec().Name), Conflict: true}
		}
	}
	for name, d := range r.Library() {
		if d.Extends == code {
			return &engine.Refused{Text: fmt.Sprintf("%s extends it", name), Conflict: true}
		}
	}
	if err := r.Commit(ctx, func(ch *engine.Change) error {
		ch.Tell("connection", "")
		if err := ch.DropDefinition(code); err != nil {
			return err
		}
		return ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "connector", What: "definition",
			Text: fmt.Sprintf("Connector %s removed", code)})
	}); err != nil {
		return err
	}
	return r.LoadDefinitions(ctx)
}

// FolderRead is what became of the folder of definitions.
type FolderRead struct {
	Added   []string `json:"added" doc:"Codes of connectors"`
	Changed []string `json:"changed"`
	Gone    []string `json:"gone"`
}

// ReadFolder reads the folder of definitions anew. What is wrong in it is said, and all stays as it was; connections
// work by what was changed at once.
func (r *Joining) ReadFolder(ctx context.Context, who string) (FolderRead, error) {
	was, now, err := r.FolderAnew(ctx)
	if err != nil {
		return FolderRead{}, engine.Refuse("the folder stays as it was read last: %v", err)
	}
	out := FolderRead{Added: []string{}, Changed: []string{}, Gone: []string{}}
	for _, code := range now.Codes() {
		switch {
		case was[code] == nil && r.Connector(code) != nil:
			return out, engine.Refuse("the connector %s was added here already; remove it first, or give that of the folder another code",
				code)
		case was[code] == nil:
			out.Added = append(out.Added, code)
		case was[code].Text != now[code].Text:
			out.Changed = append(out.Changed, code)
		}
	}
	for _, code := range was.Codes() {
		if now[code] == nil {
			out.Gone = append(out.Gone, code)
		}
	}
	if err := r.mayChange(now, out); err != nil {
		return out, err
	}
	if err := r.Commit(ctx, func(ch *engine.Change) error {
		ch.Tell("connection", "")
		for word, codes := range map[string][]string{"added": out.Added, "changed": out.Changed, "gone": out.Gone} {
			for _, code := range codes {
				if err := ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "connector", What: "definition",
					Text: fmt.Sprintf("Connector %s: %s in the folder of definitions", code, word)}); err != nil {
					return err
				}
			}
		}
		return nil
	}); err != nil {
		return out, err
	}
	return out, r.TakeFolder(ctx, now)
}

// mayChange refuses what connections at work could not live with.
func (r *Joining) mayChange(now connector.Library, read FolderRead) error {
	for _, c := range r.Sorted() {
		code := c.Rec().Connector
		if slices.Contains(read.Gone, code) {
			return engine.Refuse("%s uses the connector %s, which is gone from the folder", c.Rec().Name, code)
		}
		if !slices.Contains(read.Changed, code) {
			continue
		}
		def, err := now[code].With(c.Rec().Overrides)
		if err != nil {
			return engine.Refuse("the overrides of %s do not fit the connector %s: %v", c.Rec().Name, code, err)
		}
		for _, kind := range c.Line().Def.Kinds() {
			if def.Feeds[kind] == nil {
				return engine.Refuse("%s uses the feed %q, which the connector %s has no more", c.Rec().Name, kind, code)
			}
		}
	}
	return nil
}
