package wire

// Target is somebody who wants to be told.
type Target struct {
	ID       int64    `json:"id"`
	Kind     string   `json:"kind" enum:"webhook,email"`
	Address  string   `json:"address"`
	Causes   []string `json:"causes"`
	Every    int64    `json:"every_minutes"`
	On       bool     `json:"on"`
	Revision int64    `json:"revision"`
}
