package cli

import (
	"encoding/json"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openrelay/internal/api"
	"openrelay/internal/core/message"
	"openrelay/internal/relay"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/joining"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// kiosk is a channel that is read, as a consultant writes its definition.
const kiosk = `
connector: kiosk
title: Kiosk
side: channel
access:
  way: key
  fields:
    - { name: key, label: Key, secret: true }
  steps: [ "Ask the kiosk for its key." ]
calls:
  identity:
    request: { method: GET, path: /who }
    map: { name: body.name, number: body.number, country: body.country }
feeds:
  orders in:
    read: { every: 1m, request: { method: GET, path: /orders }, items: records }
    id: item.id
    version: item.version
    map: item.record
  listings in:
    read: { every: 5m, request: { method: GET, path: /listings }, items: records }
    id: item.id
    map: item.record
  stock out:
    send:
      request: { method: PUT, path: /stock, headers: { Idempotency-Key: ref }, body: { sku: msg.sku, quantity: msg.quantity } }
`

// A channel nobody knew is joined with commands alone: its definition is checked and added, it lets us in, what it has is looked
// at and brought over, what would change there is seen, and it is put to work.
func TestAChannelIsJoinedByCommands(t *testing.T) {
	o := newOffice(t)
	o.Stock(20, "JAR")
	records := func(list ...map[string]any) func(trial.Call) (int, any) {
		return func(trial.Call) (int, any) { return 200, map[string]any{"records": list} }
	}
	o.On("kiosk", "/listings", records(
		trial.Record("L-1", 1, message.Listing{SKU: "JAR", Title: "A jar", Price: 1000, Currency: "EUR", Live: true, Quantity: 3}),
		trial.Record("L-2", 1, message.Listing{SKU: "MUG", Title: "A mug", Price: 700, Currency: "EUR", Live: true, Quantity: 5})))
	o.On("kiosk", "/orders", records(trial.Record("K-1", 1, trial.Sale("K-1", trial.Units("JAR", 2)))))
	file, broken := o.file("kiosk.yaml", kiosk), o.file("broken.yaml", strings.Replace(kiosk, "body.name", "body.(", 1))
	o.does(`
		connector check ` + file + ` ⇒ Kiosk, channel; let in by key
		!connector check ` + broken + ` ⇒ body.(
		!connector add ` + broken + ` ⇒ body.(
		!join start kiosk ⇒ there is no connector "kiosk"
		connector add ` + file + ` ⇒ kiosk
		connector list ⇒ Kiosk
		join start kiosk -name "The kiosk" ⇒ Ask the kiosk for its key.
		join show the-kiosk ⇒ -set key=…
		!join on the-kiosk ⇒ not ready yet
		!join access the-kiosk -address http://kiosk.test ⇒ Key is missing
		join access the-kiosk -address http://kiosk.test -set "key= secret " ⇒ Spaces were taken off:  key
		!join consent the-kiosk ⇒ has no consent page
		!join confirm the-kiosk No-9 ⇒ the account is number No-kiosk
		join confirm the-kiosk No-kiosk ⇒ [x]  The account is the one that is meant
		!join look the-kiosk -from yesterday ⇒ a time such as
		!join look the-kiosk -orders -items -stock ⇒ opening stock needs a location
		!connection settings the-kiosk -set offer.sources=nowhere ⇒ nowhere
		connection settings the-kiosk -set offer.sources=alder ⇒ sources
		join look the-kiosk -orders -items -stock ⇒ looked
		join go the-kiosk ⇒ done
	`)
	o.comesToSay("order list", "K-1") // an order goes the way of all orders, and is decided on right after
	o.does(`
		item list ⇒ MUG
		join preview the-kiosk ⇒ 2 listings
		join preview the-kiosk -accept ⇒ Seen; stock out may be switched on.
		join on the-kiosk ⇒ on
		!connector drop kiosk ⇒ uses it
		connection leave the-kiosk ⇒ 1 order with its history
		connection leave the-kiosk -yes ⇒ the-kiosk was left.
		!connection leave the-kiosk -yes ⇒ was left already
	`)
	_, out, _ := o.run("accounts", "-json")
	require.NotContains(t, out, "secret", "credentials are told to nobody")
	o.Holds()
}

// A set-up can be given up at any point, and a wrong account is forgotten.
func TestASetUpIsGivenUp(t *testing.T) {
	o := newOffice(t)
	o.On("second", "/who", func(trial.Call) (int, any) { return 401, map[string]any{"error": "no such key"} })
	o.does(`
		join start stall -name Second -code second -test ⇒ joining
		!join start stall -code second ⇒ there is a connection "second" already
		!join start stall -code "Second one" ⇒ small letters
		!join access second -address http://second.test -set key=wrong ⇒ does not let us in: no such key
		!join access second -account 77 ⇒ there is no account 77
	`)
	o.On("second", "/who", func(trial.Call) (int, any) {
		return 200, map[string]any{"name": "Second", "number": "No-second", "country": "XW"}
	})
	o.does(`
		join access second -address http://second.test -set key=right ⇒ Let in as Second
		join confirm second No-second -no ⇒ [ ]
		!join confirm second No-second ⇒ test the access first
		join drop second ⇒ The set-up of second was given up.
		!join show second ⇒ second
	`)
}

// A definition is tried with a record as the other side gives it, on the machine of whoever writes it.
func TestADefinitionIsTriedOnASample(t *testing.T) {
	o := newOffice(t)
	file := o.file("kiosk.yaml", kiosk)
	sale, err := json.Marshal(trial.Record("K-1", 1, trial.Sale("K-1", trial.Units("JAR", 2))))
	require.NoError(t, err)
	good, bad := o.file("sale.json", string(sale)), o.file("bad.json", `{"id":"K-2","version":1,"record":{"number":"K-2"}}`)
	o.does(`
		connector try ` + file + ` -sample ` + good + ` ⇒ K-1
		connector try ` + file + ` -feed "orders in" -sample ` + good + ` -setting time_zone=UTC -json ⇒ "number": "K-1"
		!connector try ` + file + ` -sample ` + bad + ` ⇒ this record would not be taken in
		!connector try ` + file + ` -sample nowhere.json ⇒ nowhere.json
		!connector try ` + file + ` -feed gossip -sample ` + good + ` ⇒ gossip
		!connector try ` + file + ` ⇒ -sample FILE or -live is needed
		!connector try ` + file + ` -live -reach nonsense ⇒ a range such as 10.1.0.0/16
		!connector try ` + file + ` -live -address http://127.0.0.1:1 -set key=x ⇒ 127.0.0.1
		!connector praise ` + file + ` ⇒ one of list, new, check, try
		!connector check nowhere.yaml ⇒ nowhere.yaml
	`)
}

// Tables go out to files and come in from them; a table that cannot be leaves no half a file behind.
func TestTablesInFiles(t *testing.T) {
	o := newOffice(t)
	o.Stock(20, "JAR")
	out := filepath.Join(o.dir, "out.csv")
	o.does(`
		sheet save items -o - ⇒ JAR
		sheet save items -o ` + out + ` ⇒ out.csv written
		!sheet save gossip -o ` + filepath.Join(o.dir, "gossip.csv") + ` ⇒ gossip
		!sheet save items -o ` + filepath.Join(o.dir, "nowhere", "x.csv") + ` ⇒ nowhere
		sheet import items ` + out + ` ⇒ nothing
	`)
	_, err := os.Stat(filepath.Join(o.dir, "gossip.csv"))
	require.ErrorIs(t, err, os.ErrNotExist)
	table, err := os.ReadFile(out)
	require.NoError(t, err)
	changed := o.file("changed.csv", strings.Replace(string(table), "A JAR", "A better jar", 1))
	o.does(`
		sheet import items ` + changed + ` ⇒ change  1
		item show JAR ⇒ A JAR
		sheet import items ` + changed + ` -yes ⇒ changed
		item show JAR ⇒ A better jar
		!sheet import gossip ` + changed + ` ⇒ there is no kind of sheet
		!sheet import items nowhere.csv ⇒ nowhere.csv
	`)
}

// What works on a company file itself names what is wrong with the file or the words.
func TestCommandsOnAFile(t *testing.T) {
	o := newOffice(t)
	none := filepath.Join(o.dir, "none.relay")
	o.does(`
		openapi ⇒ "openapi"
		!openapi more ⇒ -
		!token in-file ` + none + ` Edda ⇒ none.relay
		!token in-file ` + none + ` Edda -role king ⇒ king
		!person in-file ` + none + ` edda@example.test -role king ⇒ king
		!verify ` + none + ` ⇒ none.relay
		!demo -listen nonsense ⇒ an address such as 127.0.0.1:8410
		!standins -listen 127.0.0.1:70000 ⇒ an address such as 127.0.0.1:8410
		!serve -data ` + none + ` -reach nonsense ⇒ a range such as 10.1.0.0/16
	`)
	code, out, _ := o.run("token", "in-file", o.Store.Path(), "Printer", "-role", "viewer")
	require.Zero(t, code)
	o.env["OPENRELAY_TOKEN"] = strings.TrimSpace(out)
	o.does(`
		board ⇒ -
		!join start stall ⇒ role
	`)
	_, err := os.Stat(none)
	assert.ErrorIs(t, err, os.ErrNotExist, "a command that is wrong makes no file")
}

func TestPortsStandInARow(t *testing.T) {
	list, err := ports("127.0.0.1:8410")
	require.NoError(t, err)
	assert.Equal(t, "127.0.0.1:8410", list[0])
	assert.Equal(t, "127.0.0.1:8411", list[1])
	list, err = ports("127.0.0.1:0")
	require.NoError(t, err)
	assert.Equal(t, list[0], list[len(list)-1], "whatever is free, each")
	for _, bad := range []string{"", "8410", "127.0.0.1:x", "127.0.0.1:-1", "127.0.0.1:65535"} {
		_, err := ports(bad)
		assert.Error(t, err, bad)
	}
}

func kioskAs(code string) string {
	return strings.Replace(kiosk, "connector: kiosk", "connector: "+code, 1)
}

// TestAFileOfWhichAConnectorComesFromAFolder is worked on by commands that know nothing of the folder; the folder is
// read anew while the service runs, and what is wrong in it is said and changes nothing.
func TestAFileOfWhichAConnectorComesFromAFolder(t *testing.T) {
	folder, dir := t.TempDir(), t.TempDir()
	put := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o600))
	}
	put("apiary.yaml", kioskAs("apiary"))
	file := filepath.Join(dir, "company.relay")
	st, err := store.Open(t.Context(), file)
	require.NoError(t, err)
	r, err := relay.Open(t.Context(), st, engine.Options{Folder: folder})
	require.NoError(t, err)
	t.Cleanup(func() { r.Stop(); st.Close() })
	require.NoError(t, r.PutLocation(t.Context(), "alder", "Alder Yard", "", "Edda"))
	_, err = r.StartJoin(t.Context(), joining.NewJoin{Connector: "apiary", Code: "apiary", Name: "The apiary"}, "Edda")
	require.NoError(t, err)

	a, handler := api.New(r, api.Options{Version: "test"})
	server := httptest.NewServer(handler)
	t.Cleanup(func() { a.End(); server.Close() })
	o := &office{t: t, dir: dir, env: map[string]string{"OPENRELAY_SERVER": server.URL}}
	secret := o.file("passphrase", "a passphrase to try")
	other := filepath.Join(dir, "other.relay")
	code, token, errs := o.run("token", "in-file", file, "Desk", "-role", "lead")
	require.Zero(t, code, errs)
	o.env["OPENRELAY_TOKEN"] = strings.TrimSpace(token)
	o.does(`
		verify ` + file + ` ⇒ holds
		backup ` + filepath.Join(dir, "copy") + ` -data ` + file + ` -passphrase-file ` + secret + ` ⇒ Everything holds
		restore ` + filepath.Join(dir, "copy") + ` -still -data ` + other + ` -passphrase-file ` + secret + ` ⇒ -
		token in-file ` + other + ` Desk ⇒ -
		connector read-folder ⇒ Changed:  none
	`)
	put("apiary.yaml", strings.Replace(kioskAs("apiary"), "title: Kiosk", "title: The old apiary", 1))
	put("orchard.yaml", kioskAs("orchard"))
	o.does(`
		connector read-folder ⇒ Changed:  apiary
		connector list ⇒ The old apiary
		connector list ⇒ orchard
	`)
	require.NoError(t, os.Remove(filepath.Join(folder, "apiary.yaml")))
	o.does(`
		!connector read-folder ⇒ The apiary uses the connector apiary, which is gone from the folder
	`)
	put("apiary.yaml", "connector: apiary\nside: sideways")
	o.does(`
		!connector read-folder ⇒ the folder stays as it was read last
		connector list ⇒ The old apiary
	`)
	o.does(`!connector add ` + filepath.Join(folder, "orchard.yaml") + ` ⇒ there is a connector "orchard" already`)
}
