package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"openrelay/internal/connector"
	"openrelay/internal/store"
)

// LoadDefinitions adds the definitions that people added to those that are fixed.
func (r *Engine) LoadDefinitions(ctx context.Context) error {
	r.mu.RLock()
	fixed := r.fixed
	r.mu.RUnlock()
	lib, err := r.withAdded(ctx, fixed)
	if err != nil {
		return err
	}
	r.mu.Lock()
	r.lib = lib
	r.mu.Unlock()
	return nil
}

// LibraryWith is the library as it would be with a definition added, or in the place of an older one: those that extend it are
// read anew, too.
func (r *Engine) LibraryWith(ctx context.Context, code, text string) (connector.Library, error) {
	r.mu.RLock()
	fixed := r.fixed
	r.mu.RUnlock()
	list, err := r.Store.Definitions(ctx)
	if err != nil {
		return nil, err
	}
	if at := slices.IndexFunc(list, func(d store.Definition) bool { return d.Connector == code }); at >= 0 {
		list[at].Text = text
	} else {
		list = append(list, store.Definition{Connector: code, Text: text})
	}
	return withAll(fixed, list)
}

// LibraryOn is the library as it would be on another folder of definitions.
func (r *Engine) LibraryOn(ctx context.Context, folder connector.Library) (connector.Library, error) {
	return r.withAdded(ctx, folder)
}

// withAdded is a library with the definitions that people added.
func (r *Engine) withAdded(ctx context.Context, fixed connector.Library) (connector.Library, error) {
	list, err := r.Store.Definitions(ctx)
	if err != nil {
		return nil, err
	}
	return withAll(fixed, list)
}

// withAll is a library with further definitions, in their order.
func withAll(fixed connector.Library, list []store.Definition) (connector.Library, error) {
	lib := fixed.Clone()
	for _, d := range list {
		def, err := connector.Load(d.Connector+".yaml", []byte(d.Text), lib)
		if err != nil {
			return nil, fmt.Errorf("the definition %s no longer loads: %w", d.Connector, err)
		}
		lib[d.Connector] = def
	}
	return lib, nil
}

// FolderAnew reads the folder of definitions, and returns those that were fixed until now and those that would be.
func (r *Engine) FolderAnew(ctx context.Context) (was, now connector.Library, err error) {
	if r.folder == "" {
		return nil, nil, errors.New("the service was started without one (serve -connectors)")
	}
	now = r.shipped.Clone()
	if err := now.AddFolder(r.folder); err != nil {
		return nil, nil, err
	}
	if _, err := r.withAdded(ctx, now); err != nil {
		return nil, nil, err
	}
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.fixed, now, nil
}

// LineBy is a connection's line as it would be by the definitions of a library.
func (r *Engine) LineBy(lib connector.Library, c *Conn) (*connector.Line, error) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	out, err := r.made(lib, *c.Rec(), false)
	if err != nil {
		return nil, err
	}
	return out.line, nil
}

// TakeFolder works by what was read of the folder of definitions.
func (r *Engine) TakeFolder(ctx context.Context, now connector.Library) error {
	r.mu.Lock()
	r.fixed = now
	r.mu.Unlock()
	for _, step := range []func(context.Context) error{r.LoadDefinitions, r.CompleteFeeds, r.RemakeAll} {
		if err := step(ctx); err != nil {
			return err
		}
	}
	return nil
}

// RemakeAll makes all connections anew from what is kept.
func (r *Engine) RemakeAll(ctx context.Context) error {
	r.mu.Lock()
	for _, c := range r.conns {
		stale := *c.cur.Load()
		stale.rec.Revision = -1
		c.cur.Store(&stale)
	}
	r.mu.Unlock()
	return r.Reload(ctx)
}
