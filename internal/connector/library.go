package connector

import (
	"embed"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"sync"
)

//go:embed definitions/*.yaml
var builtIn embed.FS

// Library is the set of definitions a relay knows, by the connector's code.
type Library map[string]*Definition

// shipped are the definitions that ship with the relay, read once for all companies of a process: nothing changes them.
var shipped = sync.OnceValues(loadShipped)

// BuiltIn are the definitions that ship with the relay.
func BuiltIn() (Library, error) {
	lib, err := shipped()
	return lib.Clone(), err
}

func loadShipped() (Library, error) {
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
		d, err := Load(f.Name(), text, lib)
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

// AddFolder adds the definitions (*.yaml) of a folder. They may extend those that are there already and
// each other, in the order of their names; none may take the code of another.
func (lib Library) AddFolder(dir string) error {
	files, err := filepath.Glob(filepath.Join(dir, "*.yaml"))
	if err != nil {
		return err
	}
	if len(files) == 0 {
		if _, err := os.Stat(dir); err != nil {
			return fmt.Errorf("folder of connector definitions: %w", err)
		}
	}
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		d, err := Load(file, text, lib)
		if err != nil {
			return err
		}
		if lib[d.Connector] != nil {
			return fmt.Errorf("%s: there is a connector %q already; extend it under another code", file, d.Connector)
		}
		lib[d.Connector] = d
	}
	return nil
}

// Codes lists the connectors by code.
func (lib Library) Codes() []string { return sortedKeys(lib) }

// Clone returns a library of its own with the same definitions.
func (lib Library) Clone() Library { return maps.Clone(lib) }
