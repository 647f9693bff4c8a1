// Package people keeps who may do what, and the personal data that a company holds: who looked at it, what it holds of
// a person, and when it is forgotten.
package people

import (
	"sync/atomic"

	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/views"
)

// People keeps who works here and what is held of customers.
type People struct {
	*engine.Engine
	Views *views.Views

	accesses accessLog
	terms    atomic.Pointer[FactorTerms] // as they were read, or set, last

	first   firstRun
	hashing chan struct{} // as many as hash a password
	once    answeredOnce
}

// New makes the people of a company.
func New(e *engine.Engine, v *views.Views) *People {
	r := &People{Engine: e, Views: v, hashing: make(chan struct{}, hashesAtOnce)}
	r.AddSettingKind(engine.OneSetting("second factor", r.FactorTerms, r.SetFactorTerms))
	r.AddSettingKind(engine.OneSetting("personal data", r.KeepDays, r.SetKeepDays))
	r.AddSettingKind(r.personKind())
	return r
}
