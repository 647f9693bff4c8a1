package joining

import (
	"context"
	"fmt"
	"slices"

	"openrelay/internal/core/person"
	"openrelay/internal/setup"
)

// archiver is how one of a section of a set-up is used no more, or again.
func (r *Joining) archiver(section string) func(ctx context.Context, code string, archived bool, who string) error {
	switch section {
	case "locations":
		return r.ArchivePlace
	case "profiles":
		return r.ArchiveProfile
	case "senders":
		return r.ArchiveSender
	case "people":
		return r.People.LeaveByEmail
	}
	return r.ArchiveNamedCarrier
}

// reviveArchived uses again what is archived and stands as used in a set-up.
func (r *Joining) reviveArchived(ctx context.Context, want setup.Setup, who string) error {
	have, err := r.ExportSetup(ctx)
	if err != nil {
		return err
	}
	for _, k := range have.Archived.Revived(want) {
		for _, code := range k.Codes {
			if err := r.archiver(k.Section)(ctx, code, false, who); err != nil {
				return fmt.Errorf("%s %s: %w", k.Thing, code, err)
			}
		}
	}
	return nil
}

// applyArchived uses no more what a set-up says so of; what is not there is left out, as the preview says.
func (r *Joining) applyArchived(ctx context.Context, want setup.Setup, who string) error {
	have, err := r.ExportSetup(ctx)
	if err != nil {
		return err
	}
	for _, k := range want.Archived.Kinds() {
		for _, code := range k.Codes {
			if !slices.Contains(have.Used(k.Section), code) {
				continue
			}
			if err := r.archiver(k.Section)(ctx, code, true, who); err != nil {
				return fmt.Errorf("archived: %s %s: %w", k.Thing, code, err)
			}
		}
	}
	return nil
}

// planArchived notes what is named elsewhere now, so that it cannot be archived before that is changed.
func (r *Joining) planArchived(ctx context.Context, have, want setup.Setup) (out []setup.Change) {
	for _, k := range want.Archived.Kinds() {
		for _, code := range k.Codes {
			if !slices.Contains(have.Used(k.Section), code) {
				continue
			}
			if k.Section == "people" && slices.ContainsFunc(want.People, func(p setup.Person) bool {
				return p.Role == person.Lead && p.Email != code
			}) {
				continue // somebody else leads then
			}
			if err := r.inUse(ctx, k.Section, code); err != nil {
				out = append(out, setup.Change{Action: "note", Thing: k.Thing + " " + code, To: "cannot be archived now: " + err.Error()})
			}
		}
	}
	return out
}

// inUse says what names one of a section of a set-up; nil: nothing does.
func (r *Joining) inUse(ctx context.Context, section, code string) error {
	switch section {
	case "locations":
		at, err := r.Location(code)
		if err != nil {
			return err
		}
		return r.placeInUse(ctx, at)
	case "profiles":
		return r.ruledBy(ctx, "profile", code)
	case "senders":
		return r.shipsAs(code)
	case "people":
		return r.People.IsLast(ctx, code)
	}
	return nil
}
