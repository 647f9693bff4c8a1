package api

import (
	"context"
	"fmt"
	"sync"

	"openrelay/internal/wire"
)

// streamsEach is how many streams of events one person, or one program, may listen to: a page has one for a browser.
const streamsEach = 32

// streams counts who listens.
type streams struct {
	mu sync.Mutex
	of map[string]int
}

// enter takes a place, or tells that there is none; leave gives it back.
func (s *streams) enter(who string) (leave func(), ok bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.of == nil {
		s.of = map[string]int{}
	}
	if s.of[who] >= streamsEach {
		return nil, false
	}
	s.of[who]++
	return func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.of[who]--; s.of[who] == 0 {
			delete(s.of, who)
		}
	}, true
}

func streamKey(p *wire.Person) string { return fmt.Sprint(p.ID, " ", p.Token) }

// stillIn tells whether who began to listen would be let in now.
func (a *API) stillIn(ctx context.Context) bool {
	p := personOf(ctx)
	if p.Token != 0 {
		return a.relay.TokenAlive(ctx, p.Token)
	}
	now, err := a.whoseSession(ctx, p.ID)
	return err == nil && now != nil && !now.FactorDue
}
