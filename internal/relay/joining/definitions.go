package joining

import (
	"context"
	"fmt"
	"slices"

	"openrelay/internal/connector"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// NewDefinition is a definition that a person adds, or puts in the place of one that was added before.
type NewDefinition struct {
	File   string // that mistakes are said of
	Text   string
	Anyway bool   // although records that are kept would be taken otherwise, or not at all
	Note   string // kept with the version
}

// AddDefinition adds a connector definition, or the next version of one that a person added before; connections that use it work by
// the new one at once. What it would do otherwise with records that are kept is a person's to accept.
func (r *Joining) AddDefinition(ctx context.Context, n NewDefinition, who string) (*connector.Definition, error) {
	def, lib, err := r.checkDefinition(ctx, n.File, n.Text)
	if err != nil {
		return nil, err
	}
	if !n.Anyway {
		c, err := r.compare(ctx, def, lib)
		if err != nil {
			return nil, err
		}
		if text := c.Says(); c.Differs() {
			return nil, &engine.Refused{Text: text + ". Look at what is different, and take it all the same, or change it", Conflict: true}
		}
	}
	if err := r.Commit(ctx, func(ch *engine.Change) error {
		ch.Tell("connection", "")
		if err := ch.PutDefinition(store.Definition{Connector: def.Connector, Text: n.Text, AddedAt: ch.Now.UnixMicro(),
			AddedBy: who}); err != nil {
			return err
		}
		version, err := ch.AddDefinitionVersion(store.DefinitionVersion{Connector: def.Connector, Text: n.Text, At: ch.Now.UnixMicro(),
			Who: who, Note: n.Note})
		if err != nil {
			return err
		}
		text := fmt.Sprintf("Connector %s, %s, added", def.Connector, def.Title)
		if version > 1 {
			text = fmt.Sprintf("Connector %s, %s: version %d", def.Connector, def.Title, version)
		}
		if n.Note != "" {
			text += ", " + n.Note
		}
		return ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "connector", What: "definition", Text: text})
	}); err != nil {
		return nil, err
	}
	for _, step := range []func(context.Context) error{r.LoadDefinitions, r.CompleteFeeds, r.RemakeAll} {
		if err := step(ctx); err != nil {
			return nil, err
		}
	}
	return def, nil
}

// checkDefinition loads a definition and refuses what could not work here, with it or with what extends it. It returns the library
// as it would be.
func (r *Joining) checkDefinition(ctx context.Context, file, text string) (*connector.Definition, connector.Library, error) {
	def, err := connector.Load(file, []byte(text), r.Library())
	if err != nil {
		return nil, nil, err
	}
	if !r.Added(def.Connector) {
		return nil, nil, &engine.Refused{Text: fmt.Sprintf("there is a connector %q already; extend it under another code", def.Connector),
			Conflict: true}
	}
	lib, err := r.LibraryWith(ctx, def.Connector, text)
	if err != nil {
		return nil, nil, engine.Refuse("what extends it would not work any more: %v", err)
	}
	for _, c := range r.Sorted() {
		old, now := c.Line().Def, lib[c.Rec().Connector]
		if now == r.Connector(c.Rec().Connector) {
			continue
		}
		now, err := now.With(c.Rec().Overrides)
		if err != nil {
			return nil, nil, &engine.Refused{Text: fmt.Sprintf("the overrides of %s do not fit it: %v", c.Rec().Name, err), Conflict: true}
		}
		for _, kind := range old.Kinds() {
			if now.Feeds[kind] == nil {
				return nil, nil, &engine.Refused{Conflict: true, Text: fmt.Sprintf("%s uses the feed %q, which it has no more; "+
					"a connection that is joined keeps its feeds", c.Rec().Name, kind)}
			}
		}
	}
	return def, lib, nil
}

// TakeDefinitionBack puts an earlier version of a definition to work again, as its next version.
func (r *Joining) TakeDefinitionBack(ctx context.Context, code string, version int64, anyway bool,
	who string) (*connector.Definition, error) {
	v, err := r.DefinitionVersion(ctx, code, version)
	if err != nil {
		return nil, err
	}
	if r.Connector(code).Text == v.Text {
		return nil, engine.Refuse("version %d of %s is at work already", version, code)
	}
	return r.AddDefinition(ctx, NewDefinition{File: code + ".yaml", Text: v.Text, Anyway: anyway,
		Note: fmt.Sprintf("as version %d", version)}, who)
}

// DefinitionVersion is one version of a definition that was added.
func (r *Joining) DefinitionVersion(ctx context.Context, code string, version int64) (store.DefinitionVersion, error) {
	list, err := r.Store.DefinitionVersions(ctx, code)
	for _, v := range list {
		if v.Version == version {
			return v, err
		}
	}
	if err == nil {
		err = fmt.Errorf("version %d of the connector %s: %w", version, code, store.ErrNotFound)
	}
	return store.DefinitionVersion{}, err
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
func (r *Joining) ReadFolder(ctx context.Context, anyway bool, who string) (FolderRead, error) {
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
	if !anyway {
		if err := r.differs(ctx, now, out.Changed); err != nil {
			return out, err
		}
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

// differs refuses what would be done otherwise with records that are kept, by what was changed in the folder.
func (r *Joining) differs(ctx context.Context, now connector.Library, changed []string) error {
	for _, code := range changed {
		lib, err := r.LibraryOn(ctx, now)
		if err != nil {
			return err
		}
		c, err := r.compare(ctx, now[code], lib)
		if err != nil {
			return err
		}
		if c.Differs() {
			return &engine.Refused{
				Text: code + ": " + c.Says() + ". Look at what is different (connector compare), and have it read all the " +
					"same, or change it",
				Conflict: true,
			}
		}
	}
	return nil
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
