package cli

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/relay/trial"
)

// selling is an office with two items, two orders and a listing.
func selling(t *testing.T) *office {
	o := newOffice(t)
	o.Stock(20, "JAR", "LID")
	o.Push("stall",
		trial.Event("order", "S-1", 1, trial.Sale("S-1", trial.Units("JAR", 2))),
		trial.Event("order", "S-2", 1, trial.Sale("S-2", trial.Units("JAR", 1))),
		trial.Event("listing", "L-1", 1, message.Listing{SKU: "POT", Title: "A pot", Price: 500, Currency: "EUR", Live: true}))
	o.until("listings", "L-1")
	o.until("orders", "S-2")
	return o
}

// until repeats a command until it says something.
func (o *office) until(command, says string) {
	o.t.Helper()
	require.Eventually(o.t, func() bool {
		_, out, _ := o.run(words(command)...)
		return strings.Contains(out, says)
	}, 20*time.Second, 20*time.Millisecond, "%s: %s", command, says)
}

func TestCatalogCommands(t *testing.T) {
	selling(t).does(`
		!catalog create POT Pot -set weight=300 ⇒ there is no field "weight"
		catalog create POT Pot ⇒ name      Pot
		!catalog create POT Pot ⇒ POT
		catalog edit POT -set "name=A bigger pot" -set price=12.90 ⇒ price     12.90
		!catalog edit POT -set price=dear ⇒ price
		catalog show POT ⇒ A bigger pot
		!catalog show CUP ⇒ There is no item CUP
		catalog archive LID ⇒ archived   yes
		items -q LID ⇒ SKU
		catalog restore LID ⇒ A LID
		items ⇒ A bigger pot
		item JAR ⇒ opening count
		!item CUP ⇒ There is no item CUP
		listings ⇒ L-1
		listing match 1 POT ⇒ by a person
		listing offer 1 -buffer 2 ⇒ A pot
		listing own 1 -title Own ⇒ A pot
		listing unmatch 1 ⇒ its match was ended by Edda
		!listing unmatch 1 ⇒ not matched
		listing ignore 1 ⇒ ignored
		listing notice 1 ⇒ its match was ended
		!listing create 1 ⇒ there is an item POT already
		!listing create 9 ⇒ There is no listing 9
		!listing match 1 CUP ⇒ There is no item CUP
		listing match 1 JAR ⇒ JAR
		why stall POT ⇒ Alder Yard
		!why stall NOTHING ⇒ NOTHING
		known stall MUG JAR ⇒ MUG is JAR now
		!publish stall JAR ⇒ takes no items from us
		save items -o - ⇒ JAR,stocked
		!save gossip -o - ⇒ there is no kind of sheet "gossip"
	`)
}

func TestStockCommands(t *testing.T) {
	o := selling(t)
	o.does(`
		stock -q JAR ⇒ Alder Yard
		adjust JAR alder +3 -reason found ⇒ +3  JAR  at Alder Yard:  20 on hand before, 23 now
		!adjust JAR alder 3 ⇒ say why the stock changes
		!adjust JAR nowhere 3 -reason found ⇒ nowhere
		!adjust JAR alder -300 -reason broken ⇒ JAR
		purchase add "Clay works" alder -line JAR=5 ⇒ P10001
		!purchase add "Clay works" alder ⇒ line
		!purchase add "Clay works" alder -line CUP=5 ⇒ CUP
		purchase list ⇒ Clay works
		purchase receive P10001 JAR -n 2 ⇒ P10001
		purchase show P10001 ⇒ 2
		purchase close P10001 ⇒ closed
		!purchase receive P10001 JAR -n 2 ⇒ closed
		transfer add alder pier -line JAR=2 ⇒ draft
		!transfer arrive T10001 ⇒ draft
		transfer send T10001 ⇒ under way
		transfer arrive T10001 ⇒ closed
		transfer list -state closed ⇒ T10001
		transfer add alder pier -line JAR=1 ⇒ T10002
		transfer send T10002 ⇒ under way
		transfer lose T10002 -reason "fell off" ⇒ closed
		transfer add alder pier -line JAR=1 ⇒ T10003
		transfer drop T10003 ⇒ closed
		transfer show T10001 ⇒ JAR
		!transfer add alder alder -line JAR=1 ⇒ to itself
		count start pier ⇒ C10001
		count note C10001 JAR 9 ⇒ 9
		count note C10001 JAR 1 -add ⇒ 10
		!count note C10001 NOTHING 1 ⇒ NOTHING
		count show C10001 ⇒ 10
		count post C10001 ⇒ posted
		!count post C10001 ⇒ posted
		count start alder ⇒ C10002
		count drop C10002 ⇒ dropped
		count list ⇒ C10001
		stock -q JAR ⇒ Pier Nine
		compare ⇒ compared
		compare -correct ⇒ corrected
	`)
	o.file("stock.csv", "sku,location,change,reason\nJAR,alder,-1,broken\nJAR,nowhere,1,x\n")
	o.file("items.csv", "sku,name\nCUP,A cup\nBAD ONE,\n")
	o.does(strings.ReplaceAll(`
		import items DIR/items.csv ⇒ BAD ONE
		!item CUP ⇒ There is no item CUP
		import items DIR/items.csv -yes ⇒ added    1
		item CUP ⇒ A cup
		import adjustments DIR/stock.csv -yes ⇒ nowhere
		!import gossip DIR/items.csv ⇒ there is no kind of sheet
		!import items DIR/none.csv ⇒ no such file
	`, "DIR", o.dir))
	o.Holds()
}

func TestParcelCommands(t *testing.T) {
	o := selling(t)
	o.does(strings.ReplaceAll(`
		pick O10001 ⇒ S10001
		!pick O777 ⇒ There is no order O777
		!scan S10001 LID ⇒ is not part of order O10001
		scan S10001 JAR -quantity 2 ⇒ 2 of 2
		picklist O10001 -o DIR/pick.pdf ⇒ Written to
		profiles ⇒ Small carton
		!pack S10001 huge ⇒ huge
		pack S10001 small -weight 900 ⇒ 900 g
		rates S10001 ⇒ Slow
		!ship S10001 -carrier ann ⇒ go together
		ship S10001 -carrier ann -service slow ⇒ AN
		!ship S10001 ⇒ no second label
		label S10001 -size a4 -o DIR/label.pdf ⇒ Written to
		shipments -state shipped ⇒ S10001
		manifest ⇒ open
		manifest close 1 ⇒ clos
		order O10001 ⇒ shipped
		board ⇒ shipped
		activity -limit 3 ⇒ Ann
		report shipping ⇒ charged to buyers
	`, "DIR", o.dir))
	for _, name := range []string{"pick.pdf", "label.pdf"} {
		pdf, err := os.ReadFile(filepath.Join(o.dir, name))
		require.NoError(t, err)
		require.Equal(t, "%PDF-", string(pdf[:5]), name)
	}
	o.until("manifest", "M1")
	o.Holds()
}

func TestOrderCommands(t *testing.T) {
	o := selling(t)
	o.file("order.json", `{"connection":"stall","order":{"number":"T-1","state":"open","status":"open","currency":"EUR","total":1000,
		"lines":[{"id":"1","sku":"JAR","title":"Jar","quantity":1,"unit_price":1000,"total":1000}]}}`)
	o.file("broken.json", `{"connection":`)
	o.does(strings.ReplaceAll(`
		orders -stage ready ⇒ S-1
		orders -stage held -csv DIR/held.csv ⇒ -
		act hold O10002 -value "look at it" ⇒ O10002
		order O10002 ⇒ look at it
		orders -stage held ⇒ S-2
		!undo-act 900 ⇒ There is no action 900
		act tag O10001 O10002 O777 -value gift ⇒ there is no such order
		orders -tag gift ⇒ S-1
		!act fly O10001 ⇒ expected value to be one of "approve
		!release O10002 person ⇒ cannot be waved through
		release O10002 "held by a person" ⇒ O10002
		!release O10002 "held by a person" ⇒ O10002
		!answer O10002 ⇒ waits for no answer
		!hand-over O10002 ⇒ O10002
		type DIR/order.json ⇒ taken in as O10003
		!type DIR/order.json ⇒ T-1
		!type DIR/broken.json ⇒ JSON
		void O10003 ⇒ void
		!void O10003 ⇒ void
		take-in-again O10003 ⇒ -
		!merge nowhere ⇒ nowhere
		!undo-merge O10001 ⇒ O10001
		rule Big -when "total > 500" -then tag('big') ⇒ total > 500
		!rule Wrong -when "total >" -then tag('big') ⇒ condition, character 8
		!rule Wrong -when "total > 500" -then service('rocket') ⇒ rocket
		rehearse Big -when "total > 5" ⇒ decided on differently
		rule Big -off ⇒ off
		rules ⇒ tag('big')
		rule Big -remove ⇒ Then
		jobs ⇒ Kind
		exceptions ⇒ Cause
		!snooze "unknown SKU" ⇒ nothing of that is open
		!assign "unknown SKU" Edda ⇒ nothing of that is open
		report source ⇒ EUR
		report days ⇒ day
		report speed ⇒ average hours
		report stockouts ⇒ fell to nothing
		report exceptions ⇒ raised
		!report gossip ⇒ expected value to be one of
		!report days -from yesterday ⇒ day
	`, "DIR", o.dir))
}

func TestConnectionCommands(t *testing.T) {
	o := selling(t)
	o.file("setup.yaml", "setup: 1\nlocations:\n  - { code: loft, name: \"${WHERE}\" }\n")
	o.file("mine.yaml", "connector: mine\nextends: stall\ntitle: Mine\n")
	o.file("bad.yaml", "connector: mine\ncolour: red\n")
	o.file("over.yaml", "title: Our stall\n")
	o.does(strings.ReplaceAll(`
		connections ⇒ The stall
		feeds stall ⇒ stock out
		feed stall "stock out" -off ⇒ off
		feed stall "stock out" ⇒ on
		!feed stall gossip ⇒ has no feed "gossip"
		!feed stall "stock out" -schedule often ⇒ often
		pause stall ⇒ paused
		pause stall -off ⇒ running well
		settings stall ⇒ sources
		settings stall -set offer.buffer=1 ⇒ "buffer": 1
		!settings stall -set offer.colour=1 ⇒ unknown field "colour"
		!settings stall -set offer.buffer_percent=300 ⇒ 0 to 100 is expected
		overrides stall ⇒ Nothing is overridden
		!test nowhere ⇒ nowhere
		test stall ⇒ No-stall
		!run stall "orders in" ⇒ pushed by the other side
		runs ⇒ listings in
		log 1 ⇒ done
		!log x ⇒ a number is expected
		accounts ⇒ No-bob
		connectors ⇒ Carter
		bench stall "orders in" ⇒ S-2
		!test-mode stall ⇒ real orders are still on the way
		clear-tests stall ⇒ 0 test orders
		leave bob ⇒ Nothing was done
		leave bob -yes ⇒ Removed
		join start carter -code cam ⇒ joining
		join show cam ⇒ Give the credentials
		join access cam -address http://cam.test -set key=cam-key ⇒ No-cam
		join confirm cam No-cam ⇒ [x]  The account is the one that is meant
		join on cam ⇒ on
		!join start nothing ⇒ nothing
		join start carter -code dan ⇒ dan
		join drop dan ⇒ given up
		renew ann -set key=other ⇒ ann
		add-connector DIR/mine.yaml ⇒ mine
		!add-connector DIR/bad.yaml ⇒ colour
		drop-connector mine ⇒ Removed
		!drop-connector stall ⇒ stall
		setup export ⇒ Morrow Hive Supply
		setup plan DIR/setup.yaml -set WHERE=Loft ⇒ + location loft  Loft
		setup apply DIR/setup.yaml -set WHERE=Loft ⇒ changed
		!setup ready nothing ⇒ there is no ready-made set-up
		!check-address "Lindenrow 14" 41360 Harrowmere XW ⇒ no address service is joined
		shapes ⇒ tracking_event
		shapes order ⇒ prices_include_tax
		!shapes gossip ⇒ gossip
		!not-bought 1 ⇒ There is no message 1
		!send-again 1 ⇒ There is no message 1
	`, "DIR", o.dir))
}

func TestPeopleCommands(t *testing.T) {
	o := selling(t)
	o.does(`
		company ⇒ Morrow Hive Supply
		company -name "Morrow Hive" -time-zone Etc/GMT-2 ⇒ Etc/GMT-2
		!company -time-zone Moon/Base ⇒ Moon/Base
		tell webhook http://hook.test/x ⇒ whsec_
		!tell email edda@morrow.example ⇒ no mail server
		!tell pigeon roof ⇒ webhook, email
		!person nobody@example.test ⇒ There is no person
		keep-personal 90 ⇒ kept for 90 days
		!keep-personal -3 ⇒ -
		looks ⇒ -
	`)
	server := o.env["OPENRELAY_SERVER"]
	for _, args := range [][]string{{"user"}, {"token"}, {"verify"}, {"serve", "extra"}} {
		code, _, _ := o.run(args...)
		require.Equal(t, 2, code, args)
	}
	code, _, errs := o.run("verify", filepath.Join(o.dir, "none.relay"))
	require.Equal(t, 1, code)
	require.Contains(t, errs, "none.relay")
	code, out, errs := o.run("verify", o.Store.Path())
	require.Zero(t, code, errs)
	require.NotEmpty(t, out)

	o.env["OPENRELAY_TOKEN"] = "wrong"
	code, _, errs = o.run("board")
	require.Equal(t, 1, code)
	require.Contains(t, errs, "token")
	require.NotContains(t, errs, "wrong", "what was given is not repeated")
	o.env["OPENRELAY_SERVER"] = "http://127.0.0.1:1"
	code, _, errs = o.run("board")
	require.Equal(t, 1, code)
	require.Contains(t, errs, "127.0.0.1:1")
	o.env["OPENRELAY_SERVER"] = server
}

// TestEveryCommandExplainsItself: each says what it does, and refuses what it does not know, with its own help.
func TestEveryCommandExplainsItself(t *testing.T) {
	env := &Env{Getenv: func(string) string { return "" }}
	for _, c := range commands() {
		var out, errs strings.Builder
		env.Out, env.Err = &out, &errs
		require.Zero(t, Run(t.Context(), env, []string{c.name, "-h"}), c.name)
		require.Contains(t, out.String(), "Usage: openrelay "+c.name, c.name)
		require.Contains(t, out.String(), c.about, c.name)
		require.NotContains(t, out.String(), `\x00`, c.name)
		out.Reset()
		require.Equal(t, 2, Run(t.Context(), env, []string{c.name, "-surely-not-a-flag"}), c.name)
		require.Contains(t, errs.String(), "surely-not-a-flag", c.name)
		require.Empty(t, out.String(), c.name)
	}
}

// TestTablesAsJSON: what a command prints for people, it prints for programs, too.
func TestTablesAsJSON(t *testing.T) {
	o := selling(t)
	for _, command := range []string{"board", "orders", "order O10001", "items", "item JAR", "stock", "listings", "connections",
		"feeds stall", "runs", "profiles", "shipments", "manifest",
		"exceptions", "purchase list", "transfer list", "count list", "rules", "jobs", "company", "report days", "activity", "looks",
		"accounts", "connectors", "compare"} {
		code, out, errs := o.run(append(words(command), "-json")...)
		require.Zero(t, code, "%s: %s", command, errs)
		require.True(t, json.Valid([]byte(out)), "%s: %s", command, out)
	}
}

// TestListsSayThatThereIsMore: a list that was cut says so, and -all does not cut it.
func TestListsSayThatThereIsMore(t *testing.T) {
	o := selling(t)
	code, out, errs := o.run("orders", "-limit", "1")
	require.Zero(t, code)
	require.NotContains(t, out, "S-1")
	require.Contains(t, out+errs, "there are more")
	code, out, errs = o.run("orders", "-limit", "1", "-all")
	require.Zero(t, code)
	require.Contains(t, out, "S-1")
	require.NotContains(t, out+errs, "there are more")
}
