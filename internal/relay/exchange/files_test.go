package exchange_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/relay/trial"
	"openrelay/internal/setup"
	"openrelay/internal/store"
)

const tray = `
connector: tray
title: Tray
side: channel
access: { way: files }
format: { answer: edifact, body: edifact }
feeds:
  orders in:
    id: edi(item, "BGM", "2")
    version: number(edi(item, "BGM", "3"))
    read: { every: 1s, files: { folder: out, name: "*.edi", settled: 0s }, items: ORDERS }
    map:
      number: edi(item, "BGM", "2")
      state: '"open"'
      status: '"open"'
      placed_at: moment(edi(item, "DTM+137", "1.2"), "yyyyMMddHHmm", "UTC")
      changed_at: moment(edi(item, "DTM+137", "1.2"), "yyyyMMddHHmm", "UTC")
      currency: '"EUR"'
      ship_to: { name: 'edi(item, "NAD+DP", "4")', street: 'edi(item, "NAD+DP", "5")', postcode: 'edi(item, "NAD+DP", "8")',
        town: 'edi(item, "NAD+DP", "6")', country: 'edi(item, "NAD+DP", "9")' }
      lines:
        each: groups(item, "LIN", "UNS")
        as: line
        map: { id: 'edi(line, "LIN", "1")', sku: 'edi(line, "LIN", "3")', quantity: 'number(edi(line, "QTY+21", "1.2"))',
          unit_price: 'amount(edi(line, "PRI+AAA", "1.2"), "EUR")', total: 'amount(edi(line, "MOA+203", "1.2"), "EUR")' }
      total: amount(edi(item, "MOA+86", "1.2"), "EUR")
  dispatch out:
    send:
      request:
        file: "in/{msg.reference}.edi"
        body:
          interchange: { sender: '"RELAY"', recipient: '"TRAY"', reference: 'digest(ref, 14)' }
          message: '"DESADV:D:96A:UN"'
          BGM: '["351", msg.order_number, "9"]'
          RFF: '[["CN", msg.tracking]]'
`

const bought = `UNB+UNOC:3+TRAY+RELAY+261123:0727+77'
UNH+1+ORDERS:D:96A:UN'BGM+220+F-1+1'DTM+137:202611230727:203'NAD+DP+++Ilka Fenn+Heron Lane 4+Harrowmere++41360+XW'
LIN+1++JAR'QTY+21:2'PRI+AAA:10.00'MOA+203:20.00'UNS+S'MOA+86:20.00'UNT+11+1'
UNZ+1+77'`

// exchanging is a company with which files are exchanged in a folder.
func exchanging(t *testing.T) (k *trial.Kit, dir string) {
	t.Helper()
	dir = t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "out"), 0o755))
	k = trial.New(t)
	k.Stock(9, "JAR")
	_, err := k.ApplySetup(t.Context(), setup.Setup{Version: 1, Connectors: []string{tray}, Connections: []setup.Connection{
		{Code: "tray", Connector: "tray", Name: "The tray", Address: dir, Settings: map[string]any{
			"offer": map[string]any{"sources": []any{"alder"}}},
			Feeds: map[message.Feed]setup.Feed{message.OrdersIn: {On: true}, message.DispatchOut: {On: true}}}}}, nil, "Edda")
	require.NoError(t, err)
	return k, dir
}

func lay(t *testing.T, k *trial.Kit, dir, name, text string) {
	t.Helper()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "out", name), []byte(text), 0o644))
	k.Run(k.ByCode("tray"), engine.RunRequest{Kind: message.OrdersIn, Cause: "schedule"})
	k.Later(2 * time.Second)
	k.Settle()
}

// TestAnOrderComesAsAFileAndItsNumberGoesAsOne.
func TestAnOrderComesAsAFileAndItsNumberGoesAsOne(t *testing.T) {
	k, dir := exchanging(t)
	lay(t, k, dir, "A.edi", bought)
	require.Equal(t, "ready", k.Stage("F-1"))
	lay(t, k, dir, "B.edi", bought)
	files, err := k.Store.Files(t.Context(), k.ByCode("tray").ID, 0, 10)
	require.NoError(t, err)
	require.Equal(t, []string{"B.edi again", "A.edi taken"},
		[]string{files[0].Name + " " + files[0].State, files[1].Name + " " + files[1].State})
	require.NoError(t, k.PutNamedCarrier(t.Context(), store.NamedCarrier{Code: "cart", Name: "Cart"}, "Edda"))
	require.NoError(t, k.TypeNumber(t.Context(), k.Packed("F-1"), shipping.Typed{Carrier: "cart", Number: "PP123456785XW"}, "Pim"))
	k.Settle()
	sent, err := os.ReadDir(filepath.Join(dir, "in"))
	require.NoError(t, err)
	require.Len(t, sent, 1)
	raw, err := os.ReadFile(filepath.Join(dir, "in", sent[0].Name()))
	require.NoError(t, err)
	require.Contains(t, string(raw), "BGM+351+F-1+9'\nRFF+CN:PP123456785XW'")
	files, err = k.Store.Files(t.Context(), k.ByCode("tray").ID, 0, 1)
	require.NoError(t, err)
	require.Equal(t, []string{store.FileSent, sent[0].Name()}, []string{files[0].State, filepath.Base(files[0].Name)})
	k.Holds()
}

// TestAFileThatIsWrongIsTold, and its exception ends when it comes as it should be.
func TestAFileThatIsWrongIsTold(t *testing.T) {
	k, dir := exchanging(t)
	lay(t, k, dir, "A.edi", bought[:100])
	require.Equal(t, []order.Cause{engine.FileNotTaken}, k.Causes())
	e := k.Exceptions()[0]
	require.Equal(t, "A.edi", e.Subject)
	require.Contains(t, e.Text, "The file A.edi of The tray could not be read")
	require.FileExists(t, filepath.Join(dir, "out/failed/A.edi"))
	lay(t, k, dir, "B.edi", bought)
	require.Equal(t, "ready", k.Stage("F-1"), "others are taken")
	require.Len(t, k.Causes(), 1)
	lay(t, k, dir, "A.edi", bought+"\n")
	require.Empty(t, k.Causes())
	k.Holds()
}

// TestARefusedFileIsReadAgainWhenWeHaveLearned: where the definition was wrong, the same file is taken as it is.
func TestARefusedFileIsReadAgainWhenWeHaveLearned(t *testing.T) {
	k, dir := exchanging(t)
	over := "feeds: { orders in: { read: { format: { answer: xml } } } }"
	require.NoError(t, k.SetOverrides(t.Context(), "tray", over, k.ByCode("tray").Rec().Revision, "Edda"))
	lay(t, k, dir, "A.edi", bought)
	require.Equal(t, []order.Cause{engine.FileNotTaken}, k.Causes())
	require.NoError(t, k.SetOverrides(t.Context(), "tray", "", k.ByCode("tray").Rec().Revision, "Edda"))
	require.NoError(t, os.Rename(filepath.Join(dir, "out/failed/A.edi"), filepath.Join(dir, "out/A.edi")))
	k.Run(k.ByCode("tray"), engine.RunRequest{Kind: message.OrdersIn, Cause: "schedule"})
	k.Settle()
	require.Equal(t, "ready", k.Stage("F-1"))
	require.Empty(t, k.Causes())
}

// TestAFolderThatIsGone fails the reading, and is read when it is back.
func TestAFolderThatIsGone(t *testing.T) {
	k, dir := exchanging(t)
	require.NoError(t, os.Rename(filepath.Join(dir, "out"), filepath.Join(dir, "elsewhere")))
	k.Run(k.ByCode("tray"), engine.RunRequest{Kind: message.OrdersIn, Cause: "schedule"})
	f, _ := k.Feed(k.ByCode("tray"), message.OrdersIn)
	require.Contains(t, f.LastError, "the folder out: it is not there")
	require.NoError(t, os.Rename(filepath.Join(dir, "elsewhere"), filepath.Join(dir, "out")))
	lay(t, k, dir, "A.edi", bought)
	require.Equal(t, "ready", k.Stage("F-1"))
	f, _ = k.Feed(k.ByCode("tray"), message.OrdersIn)
	require.Empty(t, f.LastError)
}

// TestAFeedThatFindsNothingWrongLeavesOpenWhatAnotherRefused: two feeds read one folder, each its own messages of a file. What one of them
// has refused is not over because the other has nothing to do with it.
func TestAFeedThatFindsNothingWrongLeavesOpenWhatAnotherRefused(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "out"), 0o755))
	k := trial.New(t)
	k.Stock(9, "JAR")
	two := strings.Replace(tray, "  dispatch out:\n", `  stock in:
    id: edi(item, "LIN", "3")
    read: { every: 1s, files: { folder: out, name: "*.edi", settled: 0s }, items: INVRPT/LIN CNT UNS }
    map: { sku: 'edi(item, "LIN", "3")', quantity: 'number(edi(item, "QTY+145", "1.2"))' }
  dispatch out:
`, 1)
	_, err := k.ApplySetup(t.Context(), setup.Setup{Version: 1, Connectors: []string{two}, Connections: []setup.Connection{
		{Code: "tray", Connector: "tray", Name: "The tray", Address: dir, Settings: map[string]any{
			"offer": map[string]any{"sources": []any{"alder"}}},
			Feeds: map[message.Feed]setup.Feed{message.OrdersIn: {On: true}, message.StockIn: {On: true}}}}}, nil, "Edda")
	require.NoError(t, err)
	read := func(kind message.Feed, text string) (open bool) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "out", "A.edi"), []byte(text), 0o644))
		k.Run(k.ByCode("tray"), engine.RunRequest{Kind: kind, Cause: "schedule"})
		k.Later(2 * time.Second)
		for _, x := range k.Exceptions() {
			open = open || x.Cause == engine.FileNotTaken
		}
		return open
	}
	wrong := strings.Replace(bought, "UNT+11", "UNT+91", 1)
	require.True(t, read(message.OrdersIn, wrong))
	require.True(t, read(message.StockIn, wrong), "it was laid back as it is; what is wrong with it is in a message that this feed leaves")
	require.True(t, read(message.OrdersIn, wrong))
	require.False(t, read(message.OrdersIn, bought))
}
