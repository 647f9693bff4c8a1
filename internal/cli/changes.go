package cli

import (
	"context"
	"flag"
	"fmt"
	"strconv"

	"openrelay/internal/client"
	"openrelay/internal/wire"
)

// changeOptions are how many changes of settings are listed.
type changeOptions struct{ limit int }

func changeCommand() command {
	opt := &changeOptions{}
	return verbs("change", "What was changed in the settings, and taking it back", opt.flags, []verb{
		{"list", "", "Changes of settings, newest first", 0, opt.list},
		{"undo", "ID", "Put a setting back to how it stood before a change", 1, opt.undo},
	})
}

func (opt *changeOptions) flags(f *flag.FlagSet) {
	f.IntVar(&opt.limit, "limit", 50, "list: `how` many, at most 500")
}

func (opt *changeOptions) list(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	list, err := c.SettingChanges(ctx, opt.limit)
	return showChanges(p, list, err)
}

func (opt *changeOptions) undo(ctx context.Context, c *client.Client, p *printer, a []string) error {
	id, err := strconv.ParseInt(a[0], 10, 64)
	if err != nil {
		return usage{fmt.Sprintf("%q is no number of a change; change list shows them", a[0])}
	}
	list, err := c.UndoSetting(ctx, id)
	return showChanges(p, list, err)
}

func showChanges(p *printer, list []wire.SettingChange, err error) error {
	if err != nil {
		return err
	}
	return p.show(list, func(row func(...any)) {
		row("ID", "AT", "WHO", "SETTING", "NAME", "CHANGE", "STATE")
		for _, x := range list {
			row(x.ID, x.At, x.Who, x.Kind, x.Name, changeWord(x), changeState(x))
		}
	})
}

func changeWord(x wire.SettingChange) string {
	switch {
	case x.Undoes != 0:
		return "undid " + strconv.FormatInt(x.Undoes, 10)
	case x.Made:
		return "made"
	}
	return "changed"
}

func changeState(x wire.SettingChange) string {
	switch {
	case x.UndoneAt != nil:
		return "undone"
	case x.Undoable:
		return "can be undone"
	}
	return "stays"
}
