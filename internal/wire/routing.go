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

// Replanned tells what came of planning an order anew.
type Replanned struct {
	Changed bool `json:"changed" doc:"Something of it is sent otherwise now"`
}
