package engine

import (
	"openrelay/internal/connector"
	"openrelay/internal/core/message"
	"openrelay/internal/store"
)

// Go runs f in the background; End waits for it.
func (r *Engine) Go(f func()) {
	r.background.Add(1)
	go func() {
		defer r.background.Done()
		f()
	}()
}

// Drive registers how a connection begins to work, and how feeds of it begin to be read that nobody reads yet.
func (r *Engine) Drive(work, read func(c *Conn)) { r.work, r.read = work, read }

// Begin lets all connections begin to work, and those that will be joined. It is refused while another process works on
// the file. first is done before; false: they work already.
func (r *Engine) Begin(first func()) (bool, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.running {
		return false, nil
	}
	if err := r.Store.Hold(); err != nil {
		return false, err
	}
	r.running = true
	first()
	for _, c := range r.conns {
		r.work(c)
	}
	return true, nil
}

// Runs tells whether the connections work.
func (r *Engine) Runs() bool {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.running
}

// End ends the work and waits for what is under way. The store stays open.
func (r *Engine) End() {
	r.Cancel()
	r.background.Wait()
	for _, c := range r.All() {
		c.WakeIn.Stop()
		c.WakeOut.Stop()
	}
	r.Client.CloseIdleConnections()
	r.Store.LetGo()
}

// Reader is how the reader of a feed is asked for a run; nil where the feed is not read.
func (c *Conn) Reader(kind message.Feed) chan RunRequest {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.readers[kind]
}

// NewReader makes the way to ask for runs of a feed, and tells whether there was none before.
func (c *Conn) NewReader(kind message.Feed) (chan RunRequest, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.readers[kind] != nil {
		return c.readers[kind], false
	}
	c.readers[kind] = make(chan RunRequest, 8)
	return c.readers[kind], true
}

// lookAgain lets all readers look at their schedules again.
func (c *Conn) lookAgain() {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, ch := range c.readers {
		select {
		case ch <- RunRequest{}:
		default:
		}
	}
}

// KnowFeed changes what memory knows of a feed; the file is written by the change that was committed before.
func (r *Engine) KnowFeed(c *Conn, kind message.Feed, f func(*store.Feed)) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if k := c.feeds[kind]; k != nil {
		f(k)
	}
}

// KeepTest keeps the last verdict on an access, so that whoever resumes a set-up sees it. What was given is not kept.
func (r *Engine) KeepTest(code string, t Tested) {
	t.Given = nil
	r.mu.Lock()
	defer r.mu.Unlock()
	r.tested[code] = t
}

// LastTest is the last verdict on a connection's access since the service began, if there was one.
func (r *Engine) LastTest(code string) (Tested, bool) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	t, ok := r.tested[code]
	return t, ok
}

// LoginOf is the login of an account that is in use, or nil.
func (r *Engine) LoginOf(account int64) *connector.Login {
	r.mu.RLock()
	defer r.mu.RUnlock()
	if l := r.logins[account]; l != nil {
		return l.Login
	}
	return nil
}

// Added tells whether a connector was added by people: it is neither built in nor from a folder.
func (r *Engine) Added(code string) bool { return r.fixed[code] == nil }
