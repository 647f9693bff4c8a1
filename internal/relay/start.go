package relay

import (
	"time"

	"openrelay/internal/store"
)

// Start begins to work: what waited since the last end goes on. It is refused while another process works on the file.
func (r *Relay) Start() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.running {
		return nil
	}
	if err := r.Store.Hold(); err != nil {
		return err
	}
	r.running = true
	// Only here: other commands open the file of a service that runs, and its runs are not stale.
	if err := r.Store.Write(r.ctx, func(t *store.Tx) error { return t.EndStaleRuns(r.now()) }); err != nil {
		r.log.Error("runs that were left open could not be closed", "error", err)
	}
	for _, c := range r.conns {
		r.begin(c)
	}
	r.resumeImports()
	r.resumeSheets()
	loops := []func(){r.keepHouse, r.watchLoop, r.tellLoop}
	for _, kind := range jobKinds {
		loops = append(loops, func() { r.jobLoop(kind) })
	}
	for _, loop := range loops {
		r.wg.Add(1)
		go func() { defer r.wg.Done(); loop() }()
	}
	return nil
}

// keepHouse forgets, once a day, what is kept for a time only.
func (r *Relay) keepHouse() {
	for {
		if err := r.Store.Write(r.ctx, func(t *store.Tx) error {
			_, err := t.ForgetShown(r.now().Add(-keepShown))
			return err
		}); err != nil && r.ctx.Err() == nil {
			r.log.Error("what listings showed long ago could not be forgotten", "error", err)
		}
		if err := r.learnServices(); err != nil && r.ctx.Err() == nil {
			r.log.Error("what carriers sell could not be asked for", "error", err)
		}
		if n, err := r.ForgetOld(r.ctx); err != nil && r.ctx.Err() == nil {
			r.log.Error("personal data could not be removed", "error", err)
		} else if n > 0 {
			r.log.Info("personal data removed", "orders", n)
		}
		select {
		case <-r.ctx.Done():
			return
		case <-time.After(24 * time.Hour):
		}
	}
}

// learnServices asks, by a job, what each carrier sells.
func (r *Relay) learnServices() error {
	return r.commit(r.ctx, func(ch *change) error {
		for _, c := range r.sorted() {
			if c.rec().State == store.On && sellsLabels(c) {
				if _, err := ch.addJob(jobServices, c.rec().Code, "relay", struct{}{}); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// Stop ends the work and waits for what is under way. The store stays open.
func (r *Relay) Stop() {
	r.stop()
	r.wg.Wait()
	for _, c := range r.all() {
		c.wakeIn.stop()
		c.wakeOut.stop()
	}
	r.client.CloseIdleConnections()
	r.Store.LetGo()
}
