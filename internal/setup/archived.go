package setup

import (
	"fmt"
	"slices"
)

// Archived is what is used no more, by code. What stands here may not stand in its own section too; what stands in its own
// section is used again.
type Archived struct {
	Locations []string `yaml:"locations,omitempty"`
	Profiles  []string `yaml:"profiles,omitempty"`
	Senders   []string `yaml:"senders,omitempty"`
	Carriers  []string `yaml:"carriers,omitempty"`
	People    []string `yaml:"people,omitempty"` // by e-mail: who left
}

// ArchivedKind is one kind of things that can be archived, with the codes of those that are.
type ArchivedKind struct {
	Section string // as it is called in the text
	Thing   string // as changes call one of them
	Codes   []string
}

// Kinds lists the kinds in the order of the text.
func (a Archived) Kinds() []ArchivedKind {
	return []ArchivedKind{{"locations", "location", a.Locations}, {"profiles", "parcel profile", a.Profiles},
		{"senders", "sender", a.Senders}, {"carriers", "carrier", a.Carriers},
		{"people", "person", a.People}}
}

// Used lists the codes that stand in the section of a kind.
func (s Setup) Used(section string) (codes []string) {
	switch section {
	case "locations":
		for _, l := range s.Locations {
			codes = append(codes, l.Code)
		}
	case "profiles":
		codes = codesOf(s.Profiles)
	case "senders":
		codes = codesOf(s.Senders)
	case "carriers":
		codes = codesOf(s.Carriers)
	case "people":
		codes = codesOf(s.People)
	}
	return codes
}

func codesOf[T kept](list []T) (codes []string) {
	for _, x := range list {
		codes = append(codes, x.code())
	}
	return codes
}

// checkArchived refuses what is to be used and to be used no more.
func (s Setup) checkArchived() error {
	for _, k := range s.Archived.Kinds() {
		used := s.Used(k.Section)
		for i, code := range k.Codes {
			switch {
			case code == "":
				return fmt.Errorf("archived: %s: one has no code", k.Section)
			case slices.Contains(k.Codes[:i], code):
				return fmt.Errorf("archived: %s: %s stands twice", k.Section, code)
			case slices.Contains(used, code):
				return fmt.Errorf("archived: %s: %s stands under %s too; it is used or it is not", k.Section, code, k.Section)
			}
		}
	}
	return nil
}

// Revived lists, kind by kind, what is archived and stands as used in what is wanted.
func (a Archived) Revived(want Setup) []ArchivedKind {
	kinds := a.Kinds()
	for i := range kinds {
		used := want.Used(kinds[i].Section)
		kinds[i].Codes = slices.DeleteFunc(slices.Clone(kinds[i].Codes), func(code string) bool {
			return !slices.Contains(used, code)
		})
	}
	return kinds
}

// compareArchived says what is to be used no more, and what again.
func compareArchived(have, want Setup) (out []Change) {
	revived, was := have.Archived.Revived(want), have.Archived.Kinds()
	for i, k := range want.Archived.Kinds() {
		for _, code := range revived[i].Codes {
			out = append(out, Change{Action: "change", Thing: k.Thing + " " + code, Field: "archived", From: "yes", To: "no"})
		}
		for _, code := range k.Codes {
			switch {
			case slices.Contains(was[i].Codes, code):
			case slices.Contains(have.Used(k.Section), code):
				out = append(out, Change{Action: "change", Thing: k.Thing + " " + code, Field: "archived", From: "no", To: "yes"})
			default:
				out = append(out, Change{Action: "note", Thing: k.Thing + " " + code, To: "is to be archived, and is not there"})
			}
		}
	}
	return out
}
