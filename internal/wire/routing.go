package wire

import "openrelay/internal/core/routing"

// PolicyInUse is what is weighed when places are chosen.
type PolicyInUse struct {
	Policy   routing.Policy `json:"policy"`
	Currency string         `json:"currency" doc:"ISO 4217, of its amounts"`
}

// StartedJob is a job that works on its own.
type StartedJob struct {
	Job int64 `json:"job"`
}

// ReplanOrder says how an order is planned anew.
type ReplanOrder struct {
	Now *bool `json:"now,omitempty" doc:"true: it waits for nothing that is to come; false: it may again; missing: as it is"`
}

// Replanned tells what came of planning an order anew.
type Replanned struct {
	Changed bool `json:"changed" doc:"Something of it is sent otherwise now"`
}
