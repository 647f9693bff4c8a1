package demo

import (
	"context"
	_ "embed"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"openrelay/internal/relay/joining"
	"openrelay/internal/wire"
)

// beeSchool is a definition that nobody ships: a customer whose orders come as EDIFACT files.
//
//go:embed beeschool.yaml
var beeSchool string

// schoolOrder is an order of the bee school.
const schoolOrder = `UNA:+.? '
UNB+UNOC:3+BEESCHOOL+MORROWHIVE+261123:0727+S4711'
UNH+1+ORDERS:D:96A:UN'
BGM+220+BS-4711+1'
DTM+137:%s:203'
NAD+DP+++Bee School Alderby:Runa Moss+Orchard Way 2+Alderby++41207+XW'
LIN+1++SMOKER-M:SA'
QTY+21:2'
PRI+AAA:29.90'
MOA+203:59.80'
UNS+S'
MOA+86:59.80'
UNT+11+1'
UNZ+1+S4711'
`

// byFiles joins a system that exchanges files, and lets an order come that is half written, wrong, and whole.
func (k *joinWalk) byFiles(ctx context.Context) error {
	k.step("Joining a bee school that sends its orders as files")
	dir := filepath.Join(k.w.Exchange, "school")
	if err := os.MkdirAll(filepath.Join(dir, "out"), 0o755); err != nil {
		return err
	}
	if _, err := k.c.AddConnector(ctx, "beeschool.yaml", beeSchool, "", false); err != nil {
		return err
	}
	if err := k.w.Join(ctx, "bee-school", "school", "Bee school"); err != nil {
		return err
	}
	var err error
	if k.tested, err = k.c.TestAccess(ctx, "school", joining.Access{Address: "/etc"}); err != nil {
		return err
	}
	k.check(!k.tested.LetIn, "%s", k.tested.Text)
	if k.tested, err = k.c.TestAccess(ctx, "school", joining.Access{Address: dir}); err != nil {
		return err
	}
	k.check(k.tested.LetIn, "%s", k.tested.Text)
	if k.im, err = k.w.Finish(ctx, "school", k.tested.Identity.Number, Joining{Sources: []string{"alder"}}); err != nil {
		return err
	}
	return k.filesCome(ctx, filepath.Join(dir, "out"))
}

// filesCome writes an order in two halves, and one that is wrong.
func (k *joinWalk) filesCome(ctx context.Context, out string) error {
	text := fmt.Sprintf(schoolOrder, time.Now().UTC().Format("200601021504"))
	whole := filepath.Join(out, "S4711.edi")
	if err := os.WriteFile(whole, []byte(text[:200]), 0o644); err != nil {
		return err
	}
	wrong := strings.NewReplacer("S4711", "S4712", "BS-4711", "BS-4712", "UNT+11", "UNT+12").Replace(text)
	if err := os.WriteFile(filepath.Join(out, "S4712.edi"), []byte(wrong), 0o644); err != nil {
		return err
	}
	time.Sleep(300 * time.Millisecond)
	if err := os.WriteFile(whole, []byte(text), 0o644); err != nil {
		return err
	}
	var order wire.Order
	took, err := until(ctx, 15*time.Second, "its order", func() (_ bool, err error) {
		order, err = k.c.Order(ctx, "BS-4711")
		return err == nil, nil
	})
	if err != nil {
		return err
	}
	k.check(len(order.Lines) == 1 && order.Lines[0].Quantity == 2, "%s of 2 smokers came %.1f s after its file was whole", order.Number,
		took.Seconds())
	var raised wire.Exception
	if _, err := until(ctx, 15*time.Second, "what is wrong with the other", func() (bool, error) {
		list, err := k.c.Exceptions(ctx)
		for _, e := range list {
			if e.Cause == "file not taken" {
				raised = e
			}
		}
		return raised.Cause != "", err
	}); err != nil {
		return err
	}
	k.check(raised.Subject == "S4712.edi", "%s", raised.Text)
	right := strings.Replace(wrong, "UNT+12", "UNT+11", 1)
	if err := os.WriteFile(filepath.Join(out, "S4712.edi"), []byte(right), 0o644); err != nil {
		return err
	}
	_, err = until(ctx, 15*time.Second, "it as it should be", func() (bool, error) {
		_, err := k.c.Order(ctx, "BS-4712")
		return err == nil, nil
	})
	k.check(err == nil, "sent again as it should be, it is taken, and nobody is asked any more")
	return err
}
