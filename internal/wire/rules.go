package wire

import (
	"time"

	"openrelay/internal/core/rules"
)

// Rule is a rule as people read it.
type Rule struct {
	ID        int64           `json:"id"`
	Position  int64           `json:"position"`
	Name      string          `json:"name"`
	On        bool            `json:"on"`
	When      string          `json:"when" doc:"Condition in CEL; empty: every order"`
	Then      string          `json:"then"`
	Sentence  *rules.Sentence `json:"sentence,omitempty" doc:"The condition as a sentence, where it can be one"`
	Actions   []rules.Action  `json:"actions"`
	ChangedAt *time.Time      `json:"changed_at"`
	ChangedBy string          `json:"changed_by"`
	Revision  int64           `json:"revision"`
	Broken    string          `json:"broken,omitempty" doc:"Why it cannot be read"`
}
