package exchange_test

import (
	"fmt"
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

// receipted is the tray, agreed with that every interchange is answered by a CONTRL, either way.
var receipted = strings.NewReplacer(
	`settled: 0s }, items: ORDERS }`,
	`settled: 0s, acknowledge: { control: true, when: "true", file: "in/CTL_{file.reference}.edi" } }, items: ORDERS }`,
	"  dispatch out:\n    send:\n", `  receipts in:
    id: edi(item, "UCI", "1") + "/" + edi(item, "UCI", "4") + "/" + item.interchange.reference
    read: { every: 1s, files: { folder: out, name: "*.edi", settled: 0s }, items: CONTRL }
    map:
      reference: edi(item, "UCI", "1")
      taken: edi(item, "UCI", "4") in ["7", "8"]
      reason: joined(edis(item, "UCI", "5"), ", ")
  dispatch out:
    send:
      receipt: { reference: 'digest(ref, 14)', within: 2h }
`).Replace(tray)

// awaiting is a company that has sent a file and waits for its receipt. It returns the reference that is awaited.
func awaiting(t *testing.T) (k *trial.Kit, dir, reference string) {
	t.Helper()
	dir = t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "out"), 0o755))
	k = trial.New(t)
	k.Stock(9, "JAR")
	_, err := k.ApplySetup(t.Context(), setup.Setup{Version: 1, Connectors: []string{receipted}, Connections: []setup.Connection{
		{Code: "tray", Connector: "tray", Name: "The tray", Address: dir, Settings: map[string]any{
			"offer": map[string]any{"sources": []any{"alder"}}}, Feeds: map[message.Feed]setup.Feed{message.OrdersIn: {On: true},
			message.DispatchOut: {On: true}, message.ReceiptsIn: {On: true}}}}}, nil, "Edda")
	require.NoError(t, err)
	lay(t, k, dir, "A.edi", bought)
	require.FileExists(t, filepath.Join(dir, "in/CTL_77.edi"), "what came is answered")
	require.FileExists(t, filepath.Join(dir, "out/A.edi"), "whoever takes receipts has not looked at it yet")
	receipts(k)
	require.NoFileExists(t, filepath.Join(dir, "out/A.edi"))
	require.NoError(t, k.PutNamedCarrier(t.Context(), store.NamedCarrier{Code: "cart", Name: "Cart"}, "Edda"))
	require.NoError(t, k.TypeNumber(t.Context(), k.Packed("F-1"), shipping.Typed{Carrier: "cart", Number: "PP123456785XW"}, "Pim"))
	k.Settle()
	file := newest(t, k)
	require.Equal(t, store.FileAwaited, file.State)
	require.Equal(t, store.Sent, k.OutboxOf("F-1", message.DispatchOut).State)
	return k, dir, file.Reference
}

func newest(t *testing.T, k *trial.Kit) store.File {
	t.Helper()
	files, err := k.Store.Files(t.Context(), k.ByCode("tray").ID, 0, 20)
	require.NoError(t, err)
	for _, f := range files {
		if f.Reference != "" {
			return f
		}
	}
	require.Fail(t, "nothing was sent")
	return store.File{}
}

// receipts reads the folder for receipts.
func receipts(k *trial.Kit) {
	k.Run(k.ByCode("tray"), engine.RunRequest{Kind: message.ReceiptsIn, Cause: "schedule"})
	k.Settle()
}

// answered lays the CONTRL of an interchange into the folder, and has it read.
func answered(t *testing.T, k *trial.Kit, dir, of, action, code string) {
	t.Helper()
	n := k.Now().UnixNano() % 1_000_000
	text := fmt.Sprintf("UNB+UNOC:3+TRAY+RELAY+261123:0727+%d'UNH+1+CONTRL:D:3:UN'UCI+%s+RELAY+TRAY+%s+%s'UNT+3+1'UNZ+1+%d'", n, of,
		action, code, n)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "out", fmt.Sprintf("CTL%d.edi", n)), []byte(text), 0o644))
	receipts(k)
	k.Run(k.ByCode("tray"), engine.RunRequest{Kind: message.OrdersIn, Cause: "schedule"})
	receipts(k)
}

// TestAReceiptConfirmsAFile, also when the process ended meanwhile; one of nothing that waits is said and hurts nobody.
func TestAReceiptConfirmsAFile(t *testing.T) {
	k, dir, reference := awaiting(t)
	k.Again()
	answered(t, k, dir, "ELSEWHERE", "7", "")
	require.Equal(t, store.FileAwaited, newest(t, k).State)
	answered(t, k, dir, reference, "7", "")
	require.Equal(t, store.FileAccepted, newest(t, k).State)
	m := k.OutboxOf("F-1", message.DispatchOut)
	require.Equal(t, store.Confirmed, m.State)
	k.Later(5 * time.Hour)
	k.Settle()
	require.Empty(t, k.Causes(), "nobody is asked about what was answered")
	_, reason := k.Outcome("ELSEWHERE/7/" + interchangeOf(t, dir, "ELSEWHERE"))
	require.Contains(t, reason, "nothing that was sent as ELSEWHERE waits for a receipt")
	k.Holds()
}

// interchangeOf is the reference of the interchange in which a receipt lies that names a reference.
func interchangeOf(t *testing.T, dir, names string) string {
	t.Helper()
	list, err := filepath.Glob(filepath.Join(dir, "out/done/CTL*.edi"))
	require.NoError(t, err)
	for _, file := range list {
		raw, err := os.ReadFile(file)
		require.NoError(t, err)
		if strings.Contains(string(raw), "UCI+"+names) {
			return strings.TrimSuffix(strings.TrimPrefix(filepath.Base(file), "CTL"), ".edi")
		}
	}
	require.Fail(t, "no such receipt was taken", names)
	return ""
}

// TestAReceiptThatNeverComesIsRaised, once; nothing is sent again by itself, and one that comes late ends it.
func TestAReceiptThatNeverComesIsRaised(t *testing.T) {
	k, dir, reference := awaiting(t)
	k.Later(3 * time.Hour)
	k.Settle()
	require.Equal(t, []order.Cause{engine.WriteBackRefused}, k.Causes())
	e := k.Exceptions()[0]
	require.Contains(t, e.Text, "gave no clear answer")
	require.Contains(t, e.Text, "no receipt for "+reference+" came in 2h0m0s")
	require.Equal(t, store.FileUnanswered, newest(t, k).State)
	sent, err := os.ReadDir(filepath.Join(dir, "in"))
	require.NoError(t, err)
	require.Len(t, sent, 2)

	answered(t, k, dir, reference, "7", "")
	require.Empty(t, k.Causes())
	require.Equal(t, store.FileAccepted, newest(t, k).State)
	require.Equal(t, store.Confirmed, k.OutboxOf("F-1", message.DispatchOut).State)
	k.Holds()
}

// TestAFileThatIsRefusedLater is a refusal like others: it is corrected and sent again, and awaited again.
func TestAFileThatIsRefusedLater(t *testing.T) {
	k, dir, reference := awaiting(t)
	answered(t, k, dir, reference, "4", "29")
	require.Equal(t, []order.Cause{engine.WriteBackRefused}, k.Causes())
	require.Contains(t, k.Exceptions()[0].Text, "refused")
	require.Equal(t, store.FileRefused, newest(t, k).State)
	require.Equal(t, "29", newest(t, k).Reason)
	require.NoError(t, k.SendAgain(t.Context(), k.OutboxOf("F-1", message.DispatchOut).ID, "Edda"))
	k.Settle()
	require.Empty(t, k.Causes())
	require.Equal(t, store.FileAwaited, newest(t, k).State)
	answered(t, k, dir, reference, "7", "")
	require.Equal(t, store.Confirmed, k.OutboxOf("F-1", message.DispatchOut).State)
	k.Holds()
}
