package engine

import (
	"context"
	"errors"
	"fmt"

	"openrelay/internal/connector"
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

// withAdded is a library with the definitions that people added.
func (r *Engine) withAdded(ctx context.Context, fixed connector.Library) (connector.Library, error) {
	list, err := r.Store.Definitions(ctx)
	if err != nil {
		return nil, err
	}
	lib := fixed.Clone()
	for _, d := range list {
		def, err := connector.Load(d.Connector+".yaml", []byte(d.Text), lib)
		if err != nil {
			return nil, fmt.Errorf("the definition %s, added by %s, no longer loads: %w", d.Connector, d.AddedBy, err)
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
