package cli

import (
	"context"
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
	o.until("listing list", "L-1")
	o.until("order list", "S-2")
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
		!item create POT Pot -set weight=300 ⇒ there is no field "weight"
		item create POT Pot ⇒ name      Pot
		!item create POT Pot ⇒ POT
		item edit POT -set "name=A bigger pot" -set price=12.90 ⇒ price     12.90
		!item edit POT -set price=dear ⇒ price
		item fields POT ⇒ A bigger pot
		!item fields CUP ⇒ There is no item CUP
		item archive LID ⇒ archived   yes
		item list -q LID ⇒ SKU
		item restore LID ⇒ A LID
		item list ⇒ A bigger pot
		item show JAR ⇒ opening count
		!item show CUP ⇒ There is no item CUP
		listing list ⇒ L-1
		listing match 1 POT ⇒ by a person
		listing offer 1 -buffer 2 ⇒ A pot
		listing offer 1 -share-below 10 -share-over 20 ⇒ A pot
		!listing offer 1 -share-below 10 -share-over 501 ⇒ share_over
		listing rehearse -share-below 10 ⇒ all shown everywhere
		!listing rehearse ⇒ -share-below is missing
		!listing rehearse -share-below 10 -days 91 ⇒ 90
		listing own 1 -title Own ⇒ A pot
		listing unmatch 1 ⇒ its match was ended by a person
		!listing unmatch 1 ⇒ not matched
		listing ignore 1 ⇒ ignored
		listing notice 1 ⇒ its match was ended
		!listing create 1 ⇒ there is an item POT already
		!listing create 9 ⇒ There is no listing 9
		!listing match 1 CUP ⇒ There is no item CUP
		listing match 1 JAR ⇒ JAR
		stock why stall POT ⇒ Alder Yard
		!stock why stall NOTHING ⇒ NOTHING
		listing known stall MUG JAR ⇒ MUG is JAR now
		!listing publish stall JAR ⇒ takes no items from us
		sheet save items -o - ⇒ JAR,stocked
		!sheet save gossip -o - ⇒ there is no kind of sheet "gossip"
	`)
}

func TestStockCommands(t *testing.T) {
	o := selling(t)
	o.does(`
		stock list -q JAR ⇒ Alder Yard
		stock adjust JAR alder +3 -reason found ⇒ +3  JAR  at Alder Yard:  20 on hand before, 23 now
		!stock adjust JAR alder 3 ⇒ say why the stock changes
		!stock adjust JAR nowhere 3 -reason found ⇒ nowhere
		!stock adjust JAR alder -300 -reason broken ⇒ JAR
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
		stock list -q JAR ⇒ Pier Nine
		stock compare ⇒ compared
		stock compare -correct ⇒ corrected
	`)
	o.file("stock.csv", "sku,location,change,reason\nJAR,alder,-1,broken\nJAR,nowhere,1,x\n")
	o.file("items.csv", "sku,name\nCUP,A cup\nBAD ONE,\n")
	o.does(strings.ReplaceAll(`
		sheet import items DIR/items.csv ⇒ BAD ONE
		!item show CUP ⇒ There is no item CUP
		sheet import items DIR/items.csv -yes ⇒ added    1
		item show CUP ⇒ A cup
		sheet import adjustments DIR/stock.csv -yes ⇒ nowhere
		!sheet import gossip DIR/items.csv ⇒ there is no kind of sheet
		!sheet import items DIR/none.csv ⇒ no such file
	`, "DIR", o.dir))
	o.Holds()
}

func TestParcelCommands(t *testing.T) {
	o := selling(t)
	o.does(strings.ReplaceAll(`
		shipment pick O10001 ⇒ S10001
		!shipment pick O777 ⇒ There is no order O777
		!shipment scan S10001 LID ⇒ is not part of order O10001
		shipment scan S10001 JAR -quantity 2 ⇒ 2 of 2
		shipment take-back S10001 JAR -quantity 2 ⇒ 0 of 2
		!shipment take-back S10001 JAR ⇒ cannot be taken back
		!shipment short S10001 LID ⇒ not among what is picked
		shipment scan S10001 JAR -quantity 2 ⇒ 2 of 2
		!shipment short S10001 JAR ⇒ 0 × JAR are still to be picked
		shipment propose S10001 ⇒ 2 × JAR
		shipment pick-list O10001 -o DIR/pick.pdf ⇒ Written to
		profile ⇒ Small carton
		!shipment pack S10001 huge ⇒ huge
		shipment pack S10001 small -units JAR=1 ⇒ 1 units
		!shipment pack S10001 small -units JAR=2 ⇒ more than is picked
		parcel show S10001 ⇒ JAR
		parcel repack S10001 small -weight 700 ⇒ 700 g
		parcel unpack S10001 ⇒ is unpacked
		!parcel unpack S10001 ⇒ is called off
		shipment pack S10001 small -weight 900 ⇒ 900 g
		parcel list -state packed ⇒ S10001-2
		parcel rates S10001-2 ⇒ Slow
		!parcel ship S10001-2 -carrier ann ⇒ go together
		parcel ship S10001-2 -carrier ann -service slow ⇒ AN
		!parcel ship S10001-2 ⇒ no second label
		parcel label S10001-2 -size a4 -o DIR/label.pdf ⇒ Written to
		shipment list -state shipped ⇒ S10001
		manifest list ⇒ open
		manifest close 1 ⇒ clos
		order show O10001 ⇒ shipped
		board ⇒ shipped
		activity -limit 3 ⇒ Ann
		report shipping ⇒ charged to buyers
	`, "DIR", o.dir))
	for _, name := range []string{"pick.pdf", "label.pdf"} {
		pdf, err := os.ReadFile(filepath.Join(o.dir, name))
		require.NoError(t, err)
		require.Equal(t, "%PDF-", string(pdf[:5]), name)
	}
	o.until("manifest list", "M1")
	o.Holds()
}

func TestOrderCommands(t *testing.T) {
	o := selling(t)
	o.file("order.json", `{"connection":"stall","order":{"number":"T-1","state":"open","status":"open","currency":"EUR","total":1000,
		"lines":[{"id":"1","sku":"JAR","title":"Jar","quantity":1,"unit_price":1000,"total":1000}]}}`)
	o.file("broken.json", `{"connection":`)
	o.does(strings.ReplaceAll(`
		order list -stage ready ⇒ S-1
		order list -stage held -csv DIR/held.csv ⇒ -
		order act hold O10002 -value "look at it" ⇒ O10002
		order show O10002 ⇒ look at it
		order list -stage held ⇒ S-2
		!order undo-act 900 ⇒ There is no action 900
		order act tag O10001 O10002 O777 -value gift ⇒ there is no such order
		order list -tag gift ⇒ S-1
		!order act fly O10001 ⇒ expected value to be one of "approve
		!order release O10002 person ⇒ cannot be waved through
		order release O10002 "held by a person" ⇒ O10002
		!order release O10002 "held by a person" ⇒ O10002
		!order answer O10002 ⇒ waits for no answer
		!order hand-over O10002 ⇒ O10002
		order type DIR/order.json ⇒ taken in as O10003
		!order type DIR/order.json ⇒ T-1
		!order type DIR/broken.json ⇒ JSON
		!order cancel O10003 ⇒ -reason must be given
		!order cancel O10003 -reason broken -units GHOST=1 ⇒ less than that to cancel
		order void O10003 ⇒ void
		!order void O10003 ⇒ void
		order take-in-again O10003 ⇒ -
		!order merge nowhere ⇒ nowhere
		!order undo-merge O10001 ⇒ O10001
		rule set Big -when "total > 500" -then tag('big') ⇒ total > 500
		!rule set Wrong -when "total >" -then tag('big') ⇒ condition, character 8
		!rule set Wrong -when "total > 500" -then service('rocket') ⇒ rocket
		rule rehearse Big -when "total > 5" ⇒ decided on differently
		rule set Big -off ⇒ off
		rule list ⇒ tag('big')
		rule set Big -remove ⇒ Then
		job list ⇒ Kind
		exception list ⇒ Cause
		!exception snooze "unknown SKU" ⇒ nothing of that is open
		!exception settle "file not taken" ⇒ nothing of that is open that is settled by hand
		!exception assign "unknown SKU" Edda ⇒ nothing of that is open
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
	o.file("ours.yaml", "connector: mine\nextends: stall\ntitle: Ours\n")
	o.file(
		"stall.yaml",
		strings.Replace(o.Connector("stall").Text, "id: event.id, version: event.version", "id: event.id, version: event.rev",
			1),
	)
	o.file("sampled.yaml", strings.Replace(openShop, "connector: open-shop", "connector: sampled", 1))
	o.file("sampled.samples/customers-in.json", `{"name": "nobody"}`)
	o.file("bad.yaml", "connector: mine\ncolour: red\n")
	o.file("over.yaml", "title: Our stall\n")
	o.does(strings.ReplaceAll(`
		connection list ⇒ The stall
		feed list stall ⇒ stock out
		feed set stall "stock out" -off ⇒ off
		feed set stall "stock out" ⇒ on
		!feed set stall gossip ⇒ has no feed "gossip"
		!feed set stall "stock out" -schedule often ⇒ often
		connection pause stall ⇒ paused
		connection pause stall -off ⇒ running well
		connection settings stall ⇒ sources
		connection settings stall -set offer.buffer=1 ⇒ "buffer": 1
		!connection settings stall -set offer.colour=1 ⇒ unknown field "colour"
		!connection settings stall -set offer.buffer_percent=300 ⇒ 0 to 100 is expected
		connection overrides stall ⇒ Nothing is overridden
		!connection test nowhere ⇒ nowhere
		connection test stall ⇒ No-stall
		!feed run stall "orders in" ⇒ pushed by the other side
		run list ⇒ listings in
		run log 1 ⇒ done
		!run log x ⇒ a number is expected
		connection accounts ⇒ No-bob
		connector list ⇒ Carter
		connection bench stall "orders in" ⇒ S-2
		!connection test-mode stall ⇒ real orders are still on the way
		connection clear-tests stall ⇒ 0 test orders
		connection leave bob ⇒ Nothing was done
		connection leave bob -yes ⇒ Removed
		join start carter -code cam ⇒ joining
		join show cam ⇒ Give the credentials
		join access cam -address http://cam.test -set key=cam-key ⇒ No-cam
		join confirm cam No-cam ⇒ [x]  The account is the one that is meant
		join on cam ⇒ on
		!join start nothing ⇒ nothing
		join start carter -code dan ⇒ dan
		join drop dan ⇒ given up
		connection renew ann -set key=other ⇒ ann
		connector add DIR/mine.yaml ⇒ mine
		!connector add DIR/bad.yaml ⇒ colour
		!connector take-back mine ⇒ mine has no earlier version
		connector compare DIR/ours.yaml ⇒ +title: Ours
		connector add DIR/ours.yaml -note renamed ⇒ Ours
		connector versions mine ⇒ renamed
		connector versions mine -version 2 ⇒ -title: Mine
		connector take-back mine ⇒ mine works as by version 1
		connector versions stall ⇒ Version
		connector versions tansy ⇒ was not added here
		connector compare DIR/stall.yaml ⇒ has no version
		!connector add DIR/stall.yaml ⇒ would be refused
		connector add DIR/stall.yaml -anyway ⇒ stall
		connector take-back stall -to 1 ⇒ stall works as by version 1
		!connector add DIR/sampled.yaml ⇒ 1 of 1 samples do not hold
		!connector read-folder ⇒ started without one
		bill list ⇒ Parcel asked
		!bill decide 99 -as accepted ⇒ 99
		!parcel claim S10001 lovely ⇒ noted, sent
		account put house -carrier ann -number 4711 -customer @big.example -payer third ⇒ 4711
		!account put other -carrier stall -number 1 ⇒ sells labels
		rule set Big -when "total > 1" -then account('house') ⇒ account
		!rule set Wrong -when "total > 1" -then account('nobody') ⇒ not known
		account remove house ⇒ none
		!sender-address put nobody -street x ⇒ there is no sender
		sender-address list ⇒ none
		freight-rule put Large -when "units >= 3" -do waive ⇒ waive
		!freight-rule put Wrong -when "unit > 1" -do waive ⇒ row 2
		freight-rule put Handling -do "mark up" -permille 75 ⇒ 7.5 %
		freight-rule rehearse ⇒ Would be
		freight-rule remove Handling ⇒ Large
		routing show ⇒ off: the first place
		!routing set -on ⇒ split for nothing
		routing set -on -parcel 90 -most-places 2 ⇒ on: what costs least
		!routing set -order 60 ⇒ the code of the place is expected
		routing set -place pier -order 60 -cannot "live, abroad" ⇒ cannot: live, abroad
		routing rehearse -parcel 120 ⇒ sent otherwise
		routing set -place pier -forget -late-day 150 ⇒ 1.50 EUR
		order plan O10001 ⇒ nothing is kept
		routing replan -place alder ⇒ by job
		!routing replan -place moon ⇒ moon
		partner list ⇒ No connection can be asked
		!partner agree alder -unit 5 ⇒ is not a connection that can be asked
		!partner items nobody ⇒ nobody
		!partner item nobody JAR -code J ⇒ nobody
		partner differences ⇒ Their stock is as in our books
		!partner looked x ⇒ the number of a difference
		!partner looked 9 why ⇒ difference 9
		request list ⇒ No partner was asked
		!request show Q9 ⇒ Q9
		!request ask-again Q9 ⇒ Q9
		!request call-off Q9 -reason no ⇒ Q9
		!request say Q9 refused ⇒ Q9
		!request sent Q9 Ironway I1 JAR ⇒ a SKU and units
		!request sent Q9 Ironway I1 JAR=1 ⇒ Q9
		!order ask-partners O99 ⇒ O99
		!order let-send O10001 moon ⇒ moon
		place address-checks spelling ⇒ addresses: spelling
		!place address-checks always ⇒ never
		!order take-address O99 ⇒ O99
		!order pickup-points O99 ⇒ O99
		!order pickup-point O99 -carrier ann -point K1 ⇒ O99
		printer put desk -address ipp://p.example/x -prints label -place alder ⇒ ipp://p.example/x
		!printer put desk -address http://p.example -prints label ⇒ ipp://
		printer test desk ⇒ it goes to desk
		printer queue ⇒ desk test page
		!printer print poem S1 ⇒ paper
		printer remove desk ⇒ none
		customs put all -area XW -number XW99 -terms DDP ⇒ DDP
		!customs put all -terms XXX ⇒ DAP
		!parcel customs-papers S10001 ⇒ There is no parcel
		customs remove all ⇒ none
		collection list ⇒ none
		collection put ann alder -hours mon-fri=16:00-18:00 -cutoff 15:30 -off 2026-12-24:2026-12-26=Midwinter ⇒ 15:30
		!collection put teleport alder -hours mon=16:00-18:00 ⇒ not a connection that sells labels
		!collection put ann moon -hours mon=16:00-18:00 ⇒ moon
		collection list ⇒ 16:00-18:00 16:00-18:00 16:00-18:00 16:00-18:00 16:00-18:00 - -
		!collection remove ann moon ⇒ no such row
		collection remove ann alder ⇒ none
		service list ⇒ a word that is a carrier's own
		service add ann/fast -word express -country XW -to-g 2000 ⇒ express
		service add cheapest -connection stall -postcode 97 -from-value 500 -currency EUR -at 1 ⇒ from 500 EUR
		!service add teleport ⇒ no joined carrier sells it
		!service add slow -word express -country XW -to-g 1500 ⇒ would never be looked at
		service list ⇒ express
		!service remove 9 ⇒ there are 2 rows
		service remove 1 ⇒ ann/fast
		connector drop mine ⇒ Removed
		!connector drop stall ⇒ stall
		setup write ⇒ Morrow Hive Supply
		setup preview DIR/setup.yaml -set WHERE=Loft ⇒ new  location loft  Loft
		setup adopt DIR/setup.yaml -set WHERE=Loft ⇒ changed
		!setup ready nothing ⇒ there is no ready-made set-up
		!place check-address "Lindenrow 14" 41360 Harrowmere XW ⇒ no address service is joined
		connector shapes ⇒ tracking_event
		connector shapes order ⇒ prices_include_tax
		!connector shapes gossip ⇒ gossip
		!message not-bought 1 ⇒ There is no message 1
		!message send-again 1 ⇒ There is no message 1
	`, "DIR", o.dir))
}

func TestPeopleCommands(t *testing.T) {
	o := selling(t)
	o.does(`
		company ⇒ Morrow Hive Supply
		company -name "Morrow Hive" -time-zone Etc/GMT-2 ⇒ Etc/GMT-2
		!company -time-zone Moon/Base ⇒ Moon/Base
		exception tell webhook http://hook.test/x ⇒ whsec_
		!exception tell email edda@morrow.example ⇒ no mail server
		!exception tell pigeon roof ⇒ webhook, email
		!privacy show nobody@example.test ⇒ There is no person
		privacy keep 90 ⇒ kept for 90 days
		!privacy keep -3 ⇒ -
		privacy looks ⇒ -
	`)
	server := o.env["OPENRELAY_SERVER"]
	for _, args := range [][]string{{"person", "in-file"}, {"token", "in-file"}, {"verify"}, {"serve", "extra"}} {
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

// TestEveryCommandExplainsItself: each says what it does, and refuses what it does not know, with its own help;
// a noun lists its verbs.
func TestEveryCommandExplainsItself(t *testing.T) {
	env := &Env{Getenv: func(string) string { return "" }}
	says := func(code int, args ...string) string {
		var out, errs strings.Builder
		env.Out, env.Err = &out, &errs
		require.Equal(t, code, Run(t.Context(), env, args), args)
		require.Equal(t, code != 0, out.Len() == 0, args)
		return out.String() + errs.String()
	}
	page := says(0, "help")
	require.Less(t, strings.Count(page, "\n"), 90, "all commands are one page")
	explains := func(c command, words ...string) {
		text := says(0, append(words, "-h")...)
		require.Contains(t, text, "Usage: openrelay "+strings.Join(words, " "))
		require.Contains(t, text, c.about)
		require.NotContains(t, text, `\x00`)
		require.Contains(t, says(2, append(words, "-surely-not-a-flag")...), "surely-not-a-flag")
	}
	for _, c := range commands() {
		require.Contains(t, page, c.about)
		require.NotEmpty(t, c.about)
		if len(c.verbs) == 0 {
			explains(c, c.name)
			continue
		}
		text := says(0, c.name, "-h")
		seen := map[string]bool{}
		for _, v := range c.verbs {
			require.Contains(t, text, "openrelay "+c.name+" "+v.name)
			require.False(t, seen[v.name], "%s %s twice", c.name, v.name)
			seen[v.name] = true
			explains(v, c.name, v.name)
		}
	}
}

// TestWhatIsRequiredIsSaid before anything is asked of a service, and marked in the help.
func TestWhatIsRequiredIsSaid(t *testing.T) {
	o := newOffice(t)
	o.does(`
		!person add edda@morrow.example ⇒ -name, -password-file must be given
		person change -h ⇒ Flags:
		!order O10001 ⇒ "O10001": one of list, show
		!order show ⇒ wrong number of arguments
		!join ⇒ one of start
		!key ⇒ rotate is expected
		!key turn ⇒ "turn": rotate is expected
	`)
	_, out, _ := o.run("person", "add", "-h")
	before, after, ok := strings.Cut(out, "\nFlags:")
	require.True(t, ok, out)
	require.Contains(t, before, "Required flags:")
	require.Contains(t, before, "-password-file")
	require.NotContains(t, before, "-role")
	require.NotContains(t, after, "-email", "a flag of another verb")
	_, out, _ = o.run("person", "change", "-h")
	require.NotContains(t, out, "Required flags:")
	require.Contains(t, out, "-email")
}

// TestTablesAsJSON: what a command prints for people, it prints for programs, too.
func TestTablesAsJSON(t *testing.T) {
	o := selling(t)
	for _, command := range []string{"board", "order", "order show O10001", "item list", "item show JAR", "stock", "listing",
		"connection", "feed list stall", "run", "profile", "shipment", "manifest", "exception", "purchase", "transfer", "count", "rule",
		"job", "company", "report days", "activity", "privacy looks", "connection accounts", "connector", "stock compare"} {
		code, out, errs := o.run(append(words(command), "-json")...)
		require.Zero(t, code, "%s: %s", command, errs)
		require.True(t, json.Valid([]byte(out)), "%s: %s", command, out)
	}
}

// TestListsSayThatThereIsMore: a list that was cut says so, and -all does not cut it.
func TestListsSayThatThereIsMore(t *testing.T) {
	o := selling(t)
	code, out, errs := o.run("order", "list", "-limit", "1")
	require.Zero(t, code)
	require.NotContains(t, out, "S-1")
	require.Contains(t, out+errs, "there are more")
	code, out, errs = o.run("order", "list", "-limit", "1", "-all")
	require.Zero(t, code)
	require.Contains(t, out, "S-1")
	require.NotContains(t, out+errs, "there are more")
}

// TestTheDemoSaysHowToCome: what it prints is enough to sign in, and to join by hand what is left for that; with -empty it
// opens on the first run.
func TestTheDemoSaysHowToCome(t *testing.T) {
	for _, c := range []struct {
		args, says []string
	}{
		{[]string{"-days", "0"}, []string{"Console       http://127.0.0.1:", "driver@morrowhive.example", "Nosh Lane, which is for you",
			"/menu",
			"key=nl-kitchen-key-of-the-demo-0001", "key=PLVR20DEMO7MORROW41X", "OPENRELAY_TOKEN=relay_demo", "ends with Ctrl-C"}},
		{[]string{"-empty"}, []string{"Nobody has a company here yet", "/begin#", "key=PLVR20DEMO7MORROW41X"}},
	} {
		ctx, end := context.WithCancel(t.Context())
		out := &listener{until: "ends with Ctrl-C", end: end}
		var errs strings.Builder
		code := Run(ctx, &Env{Out: out, Err: &errs, Getenv: func(string) string { return "" }, Version: "test"},
			append([]string{"demo", "-listen", "127.0.0.1:0"}, c.args...))
		require.Zero(t, code, errs.String())
		for _, text := range c.says {
			require.Contains(t, out.String(), text)
		}
		end()
	}
	newOffice(t).does(`!demo -days 999 ⇒ 0 to 365 are expected`)
}

// listener collects what is said, and ends what says it when it has heard enough.
type listener struct {
	strings.Builder
	until string
	end   context.CancelFunc
}

func (h *listener) Write(b []byte) (int, error) {
	n, err := h.Builder.Write(b)
	if strings.Contains(h.String(), h.until) {
		h.end()
	}
	return n, err
}
