package connector

import (
	"embed"
	"fmt"
)

//go:embed definitions/*.yaml
var builtIn embed.FS

// Library is the set of definitions a relay knows, by the connector's code.
type Library map[string]*Definition

// BuiltIn loads the definitions that ship with the relay.
func BuiltIn() (Library, error) {
	files, err := builtIn.ReadDir("definitions")
	if err != nil {
		return nil, err
	}
	lib := Library{}
	for _, f := range files {
		text, err := builtIn.ReadFile("definitions/" + f.Name())
		if err != nil {
			return nil, err
		}
		d, err := Load(f.Name(), text)
		if err != nil {
			return nil, err
		}
		if lib[d.Connector] != nil {
			return nil, fmt.Errorf("%s: connector %q is defined twice", f.Name(), d.Connector)
		}
		lib[d.Connector] = d
	}
	return lib, nil
}

// Kinds lists the feeds of a definition in a fixed order: what comes in first.
func (d *Definition) Kinds() []string {
	order := []string{"orders in", "listings in", "stock in", "tracking in", "stock out", "dispatch out", "labels out", "handovers out"}
	var out []string
	for _, k := range order {
		if d.Feeds[k] != nil {
			out = append(out, k)
		}
	}
	return out
}
