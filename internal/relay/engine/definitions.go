package engine

import (
	"context"
	"fmt"

	"openrelay/internal/connector"
)

// LoadDefinitions adds the definitions that people added to those that are fixed.
func (r *Engine) LoadDefinitions(ctx context.Context) error {
	list, err := r.Store.Definitions(ctx)
	if err != nil {
		return err
	}
	lib := r.fixed.Clone()
	for _, d := range list {
		def, err := connector.Load(d.Connector+".yaml", []byte(d.Text), lib)
		if err != nil {
			return fmt.Errorf("the definition %s, added by %s, no longer loads: %w", d.Connector, d.AddedBy, err)
		}
		lib[d.Connector] = def
	}
	r.mu.Lock()
	r.lib = lib
	r.mu.Unlock()
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
