package api_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/person"
	"openrelay/internal/relay/trial"
)

// A conversation is a list of requests, one a line: who asks, the method, the path below /api/v1, what is sent, and after
// => the status and texts that the answer has, or, after a !, has not, each between ‹ and ›. {name} stands for what an earlier
// line kept with name=field, where field is a path such as 0.id.
type conversation struct {
	*desk
	kept   map[string]string
	header map[string]string // of the next request
}

var requestLine = regexp.MustCompile(`^(\w+) (GET|POST|PUT|PATCH|DELETE) (\S+)(?: (\{.*\}|\[.*\]))?(?: \[(\w[\w-]*): ([^\]]*)\])? ` +
	`=> (\d+)(.*)$`)

// What is sent and what is expected may stand on a line of their own.
var lineGoesOn = regexp.MustCompile(`\n\s*(=>|[{\[])`)

func (c *conversation) says(lines string) {
	c.t.Helper()
	lines = lineGoesOn.ReplaceAllString(strings.TrimSpace(lines), " $1")
	for _, line := range strings.Split(lines, "\n") {
		line = strings.TrimSpace(line)
		for name, value := range c.kept {
			line = strings.ReplaceAll(line, "{"+name+"}", value)
		}
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		m := requestLine.FindStringSubmatch(line)
		require.NotNil(c.t, m, "a line that is none: %s", line)
		status, err := strconv.Atoi(m[7])
		require.NoError(c.t, err)
		w := c.askWith(person.Role(m[1]), m[2], "/api/v1"+m[3], m[4], map[string]string{m[5]: m[6]})
		answer := w.Body.String()
		if !assert.Equal(c.t, status, w.Code, "%s\n%s", line, answer) {
			continue
		}
		c.expect(line, answer, m[8])
	}
}

// expect looks for the texts between ticks, and keeps what is to be kept.
func (c *conversation) expect(line, answer, want string) {
	c.t.Helper()
	for _, x := range regexp.MustCompile(`(!?)‹([^›]*)›`).FindAllStringSubmatch(want, -1) {
		if x[1] == "!" {
			assert.NotContains(c.t, answer, x[2], line)
		} else {
			assert.Contains(c.t, answer, x[2], line)
		}
	}
	for _, x := range regexp.MustCompile(` (\w+)=([\w.]+)`).FindAllStringSubmatch(
		regexp.MustCompile(`‹[^›]*›`).ReplaceAllString(want, ""), -1) {
		var v any
		require.NoError(c.t, json.Unmarshal([]byte(answer), &v), "%s\n%s", line, answer)
		for _, part := range strings.Split(x[2], ".") {
			if n, err := strconv.Atoi(part); err == nil {
				list, _ := v.([]any)
				require.Greater(c.t, len(list), n, "%s\n%s", line, answer)
				v = list[n]
				continue
			}
			fields, _ := v.(map[string]any)
			require.Contains(c.t, fields, part, "%s\n%s", line, answer)
			v = fields[part]
		}
		if f, is := v.(float64); is {
			v = strconv.FormatFloat(f, 'f', -1, 64)
		}
		c.kept[x[1]] = fmt.Sprint(v)
	}
}

func talk(t *testing.T, carriers ...string) *conversation {
	return &conversation{desk: newDesk(t, carriers...), kept: map[string]string{}}
}

func TestItemsByTheInterface(t *testing.T) {
	c := talk(t)
	c.says(`
		viewer GET /items => 200 ‹[]›
		clerk POST /items {"sku":"JAR","name":"Jar","price":1190,"currency":"EUR","gtin":"4006381333931","weight_g":300}
			=> 200 ‹"sku":"JAR"›
		clerk POST /items {"sku":"JAR","name":"Jar again","currency":"EUR"} => 409 ‹JAR›
		clerk POST /items {"sku":"LID","name":"Lid","currency":"EUR","gtin":"4006381333932"} => 422 ‹right check digit›
		clerk POST /items {"sku":"LID","name":"Lid","currency":"EUR","gtin":"4006381333931"} => 409 ‹another item›
		clerk POST /items {"sku":"LID","name":"Lid","currency":"EUR","colour":"red"} => 422 ‹colour›
		clerk POST /items {"sku":"LID","name":"Lid","currency":"EUR"} => 200
		clerk POST /items
			{"sku":"SET","name":"Set","currency":"EUR","kind":"kit","parts":[{"sku":"JAR","quantity":1},{"sku":"LID","quantity":1}]}
			=> 200 ‹"kind":"kit"›
		clerk POST /items {"sku":"SET-2","name":"Set","currency":"EUR","kind":"kit","parts":[{"sku":"NONE","quantity":1}]}
			=> 422 ‹there is no item NONE›
		clerk POST /items {"sku":"SET-2","name":"Set","currency":"EUR","kind":"kit","parts":[{"sku":"SET","quantity":1}]}
			=> 422 ‹holds no stock›
		viewer GET /items/JAR/record => 200 ‹"price":1190›
		viewer GET /items/NONE/record => 404
		clerk POST /items/LID/archive {"archived":true} => 200 ‹"archived":true›
		viewer GET /items?limit=50 => 200 ‹JAR› ‹SET› !‹"LID"›
		clerk POST /items/LID/archive {"archived":false} => 200
		viewer GET /items?q=lid => 200 ‹"LID"› !‹JAR›
		clerk PUT /option-groups/size {"code":"size","name":"Size","least":1,"most":1,"choices":[{"code":"s","name":"Small","price":0}]}
			=> 200
		viewer GET /option-groups => 200 ‹"code":"size"›
		clerk PUT /option-groups/size {"code":"size","name":"Size","least":2,"most":1,"choices":[]} => 422
		lead PUT /price-lists/trade {"code":"trade","name":"Trade","currency":"EUR"} => 200
		viewer GET /price-lists => 200 ‹trade›
		viewer GET /field-owners => 200
		lead PATCH /field-owners {"name":"stall"} => 200
		viewer GET /field-owners => 200 ‹"name":"stall"›
		lead PATCH /field-owners {"colour":"stall"} => 422 ‹colour›
		lead PATCH /field-owners {"name":"nobody"} => 422 ‹nobody›
	`)
}

func TestStockByTheInterface(t *testing.T) {
	c := talk(t)
	c.Stock(10, "JAR", "LID")
	c.Listed("JAR")
	c.says(`
		viewer GET /stock => 200 ‹"sku":"JAR"› ‹"on_hand":10›
		viewer GET /stock?state=negative => 200 !‹JAR›
		viewer GET /items/JAR => 200 ‹"on_hand":10› ‹"movements"›
		viewer GET /items/NONE => 404
		clerk POST /items/JAR/adjust {"location":"alder","change":5,"reason":"found"} => 200 ‹"on_hand":15›
		clerk POST /items/JAR/adjust {"location":"alder","change":-99,"reason":"lost"} => 409 ‹only 15 on hand›
		clerk POST /items/JAR/adjust {"location":"alder","change":0,"reason":"?"} => 422 ‹other than 0›
		clerk POST /items/JAR/adjust {"location":"alder","change":1,"reason":"  "} => 422 ‹say why›
		clerk POST /items/JAR/adjust {"location":"moon","change":1,"reason":"found"} => 422 ‹alder, pier›
		clerk POST /items/JAR/rebin {"location":"alder","from":"","to":"A-1","quantity":4,"usual":true} => 200 ‹A-1›
		clerk POST /items/JAR/rebin {"location":"alder","from":"A-1","to":"A-1","quantity":1} => 422 ‹another bin›
		clerk POST /items/JAR/rebin {"location":"alder","from":"A-1","to":"B-2","quantity":40} => 409 ‹cannot be moved›
		viewer GET /connections/stall/listings/JAR/why => 200 ‹"result":15›
		viewer GET /connections/stall/listings/NONE/why => 404
		viewer GET /connections/nobody/listings/JAR/why => 404 ‹nobody›
		viewer GET /connections/stall/listings/JAR/why?at=2020-01-01T00:00:00Z => 422
		viewer GET /compare?connection=stall => 200 ‹"compared":1›
		clerk POST /compare/correct {"connection":"stall"} => 200 ‹"corrected"›
		viewer GET /find?code=JAR => 200 ‹"kind":"item"›
		viewer GET /find?code=nothing => 200 ‹"kind":"none"›
	`)
}

func TestSupplyByTheInterface(t *testing.T) {
	c := talk(t)
	c.Stock(10, "JAR", "LID")
	c.says(`
		clerk POST /purchases {"supplier":"Clay works","location":"alder","lines":[{"sku":"JAR","quantity":20}]} => 200 p=number
		clerk POST /purchases {"supplier":"Clay works","location":"alder","lines":[]} => 422
		clerk POST /purchases {"supplier":"Clay works","location":"alder","lines":[{"sku":"NONE","quantity":1}]}
			=> 409 ‹no SKU and no GTIN›
		viewer GET /purchases?state=open => 200 ‹Clay works›
		viewer GET /purchases/{p} => 200 ‹"ordered":20› ‹"timeline"›
		viewer GET /purchases/NONE => 404 ‹purchase order NONE›
		clerk POST /purchases/{p}/receive {"items":[{"code":"JAR","quantity":5}]} [Idempotency-Key: once] => 200 ‹"received":5›
		clerk POST /purchases/{p}/receive {"items":[{"code":"JAR","quantity":5}]} [Idempotency-Key: once] => 200 ‹"received":5›
		clerk POST /purchases/{p}/receive {"items":[{"code":"JAR","quantity":99}]} => 409 ‹more than is to come›
		clerk POST /purchases/{p}/receive {"items":[{"code":"LID","quantity":1}]} => 409 ‹is not on purchase order›
		clerk POST /purchases/{p}/receive {"items":[{"code":"LID","quantity":1,"over":true}]} => 200 ‹"received":6›
		clerk POST /purchases/{p}/close => 200 ‹"state":"closed"›
		clerk POST /purchases/{p}/receive {"items":[{"code":"JAR","quantity":1}]} => 409 ‹is closed›
		clerk POST /transfers {"from":"alder","to":"alder","lines":[{"sku":"JAR","quantity":1}]} => 422 ‹itself›
		clerk POST /transfers {"from":"alder","to":"pier","lines":[{"sku":"JAR","quantity":4}]} => 200 x=number
		viewer GET /transfers => 200 ‹{x}›
		viewer GET /transfers/{x} => 200 ‹"state":"draft"›
		clerk POST /transfers/{x}/arrive {} => 409
		clerk POST /transfers/{x}/send {} => 200 ‹"state":"under way"›
		clerk POST /transfers/{x}/arrive {"items":[{"code":"JAR","quantity":3}]} => 200 ‹"arrived":3›
		clerk POST /transfers/{x}/lose {"reason":"fell off the van"} => 200 ‹"lost":1› ‹"state":"closed"›
		clerk POST /transfers/{x}/drop {} => 409
		clerk POST /counts {"location":"alder"} => 200 n=number
		clerk POST /counts/{n}/lines {"code":"JAR","quantity":9} => 200 ‹"counted":9›
		clerk POST /counts/{n}/lines {"code":"NONE","quantity":9} => 409 ‹no SKU and no GTIN›
		clerk POST /counts/{n}/lines {"code":"LID","quantity":9} => 200
		clerk DELETE /counts/{n}/lines?sku=LID => 200 !‹"sku":"LID"›
		viewer GET /counts/{n} => 200 ‹"state":"open"›
		clerk POST /counts/{n}/post {"reason":"the yearly count"} => 200 ‹"state":"posted"›
		clerk POST /counts/{n}/post {} => 409
		viewer GET /counts => 200 ‹{n}›
		viewer GET /items/JAR => 200 ‹the yearly count›
	`)
	c.Holds()
}

func TestOrdersByTheInterface(t *testing.T) {
	c := talk(t, "anna")
	c.Stock(10, "JAR")
	c.Sell("S-1", trial.Units("JAR", 2))
	c.Sell("S-2", trial.Units("JAR", 1))
	c.Sell("S-3", trial.Units("GHOST", 1))
	sale, err := json.Marshal(trial.Sale("T-1", trial.Units("JAR", 1)))
	require.NoError(t, err)
	c.kept["sale"] = string(sale)
	c.kept["to"] = `"ship_to":{"name":"Ada Moss","street":"Mossway 3","postcode":"77102","town":"Greywick","country":"XW"}`
	c.kept["line"] = `"lines":[{"sku":"JAR","quantity":2,"unit_price":890}]` // as the page sends it: the rest is worked out
	c.says(`
		viewer GET /orders => 200 ‹S-1› ‹S-2› ‹S-3›
		viewer GET /orders?stage=held => 200 ‹S-3› !‹S-1›
		viewer GET /orders?limit=1 => 200 ‹S-3› !‹S-2›
		viewer GET /orders?cause=unknown+item => 200 ‹S-3› !‹S-1›
		viewer GET /orders?q=S-2 => 200 ‹S-2› !‹S-3›
		viewer GET /orders/S-1 => 200 ‹"stage":"ready"› number=number
		viewer GET /orders/NONE => 404 ‹NONE›
		clerk PUT /orders/{number}/address {"name":"Ada Moss","street":"Mossway 3","postcode":"77102","town":"Greywick","country":"XW"}
			=> 200 ‹Mossway 3›
		clerk PUT /orders/{number}/address {"name":"","street":"","postcode":"","town":"","country":"ZZ"} => 422 ‹address›
		clerk POST /orders/actions {"action":"tag","value":"gift","orders":["S-1","S-2","NONE"]}
			=> 200 ‹"done":2› ‹there is no such order› id=id
		clerk POST /orders/actions {"action":"dance","orders":["S-1"]} => 422 ‹body.action›
		clerk POST /orders/actions {"action":"tag","value":"a,b","orders":["S-1"]} => 422 ‹neither comma›
		viewer GET /orders?tag=gift => 200 ‹S-1› ‹S-2› !‹S-3›
		viewer GET /tags => 200 ‹gift›
		clerk GET /orders/actions/{id} => 200 ‹"undo":true›
		clerk POST /orders/actions/{id}/undo => 200 ‹"done":2›
		viewer GET /orders?tag=gift => 200 !‹S-1›
		clerk POST /orders/{number}/release {"cause":"no stock"} => 409
		clerk POST /orders/actions {"action":"hold","value":"ask first","orders":["S-1"]} => 200
		viewer GET /orders/{number} => 200 ‹"stage":"held"› ‹hidden›
		clerk POST /orders/{number}/release {"cause":"held by a person"} => 200 ‹"stage":"ready"›
		clerk POST /orders/{number}/void {"reason":"typed twice"} => 200 void=number
		viewer GET /orders/{void} => 200 ‹"stage":"void"›
		clerk POST /orders/{void}/take-in-again => 200 ‹"number"›
		clerk POST /orders/{void}/hand-over => 409
		clerk POST /orders {"connection":"stall","order":{sale}} => 200 typed=number
		clerk POST /orders {"connection":"stall","order":{sale}} => 409 ‹T-1›
		clerk POST /orders {"connection":"nobody","order":{sale}} => 404 ‹nobody›
		clerk POST /orders
			{"connection":"stall","order":{"number":"T-2","currency":"EUR","prices_include_tax":true,"buyer_name":"Ada Moss",{to},{line}}}
			=> 200 second=number
		viewer GET /orders/{second} => 200 ‹"total":1780› ‹Typed here›
		clerk POST /orders {"connection":"stall","order":{"number":"T-3","currency":"EUR",{to},"lines":[]}} => 422 ‹lines›
		viewer GET /orders/{typed} => 200 ‹Typed here›
		viewer GET /channel-states => 200
		clerk GET /people-here => 200
		clerk PUT /views {"page":"orders","name":"Gifts","query":"tag=gift"} => 204
		viewer GET /views?page=orders => 200 ‹Gifts› view=0.id
		clerk DELETE /views/{view} => 204
		viewer GET /views?page=orders => 200 !‹Gifts›
		viewer GET /activity => 200 ‹S-1›
		viewer GET /board => 200 ‹"stages"›
		viewer GET /orders.csv => 200 ‹S-2›
		viewer GET /jobs => 200
	`)
	c.Holds()
}

func TestParcelsByTheInterface(t *testing.T) {
	c := talk(t, "anna", "bert")
	c.Stock(10, "JAR")
	c.Learned()
	c.Sell("S-1", trial.Units("JAR", 2))
	c.says(`
		clerk POST /orders/S-1/pick => 200 s=shipment
		viewer GET /shipments => 200 ‹{s}›
		viewer GET /shipments/{s} => 200 ‹"state":"picking"›
		clerk POST /shipments/{s}/pack {"profile":"small"} => 409 ‹still to be picked›
		clerk POST /shipments/{s}/scan {"code":"GHOST"} => 409
		clerk POST /shipments/{s}/scan {"code":"JAR","quantity":2} => 200 ‹"expected"›
		clerk POST /shipments/{s}/scan {"code":"JAR"} => 409
		clerk POST /shipments/{s}/pack {"profile":"barrel"} => 422 ‹barrel›
		clerk POST /shipments/{s}/pack {"profile":"small","weight_g":-1} => 422
		packer POST /shipments/{s}/pack {"profile":"small","let_in":true} => 403 ‹work on orders›
		clerk POST /shipments/{s}/pack {"profile":"small"} => 200 ‹"state":"packed"›
		viewer GET /profiles => 200 ‹small›
		clerk GET /parcels/{s}/rates => 200 ‹anna› ‹bert›
		clerk POST /parcels/{s}/ship {"carrier":"nobody","service":"PP"} => 422 ‹nobody›
		clerk GET /parcels/{s}/label.pdf => 409
		clerk GET /labels.pdf?parcels={s} => 409 ‹no label yet›
		clerk GET /labels.pdf => 422 ‹1 to 100›
		clerk GET /parcels/{s}/packing-slip.pdf?prices=yes => 200 ‹%PDF›
		clerk GET /packing-slips.pdf?parcels={s} => 200 ‹%PDF›
		clerk GET /packing-slips.pdf?parcels={s},NONE => 404 ‹NONE›
		clerk GET /codes.pdf => 200 ‹%PDF›
		viewer GET /codes.pdf => 403
		clerk POST /parcels/{s}/take-out {"units":{"JAR":9}} => 409 ‹more than lie in parcel›
		clerk POST /parcels/{s}/take-out {"units":{"JAR":1}} => 200 ‹"quantity":1›
		clerk POST /shipments/{s}/pack {"into":"{s}"} => 200 ‹"state":"packed"›
		packer PUT /parcels/{s}/address {"name":"M T","street":"Row 15","postcode":"41360","town":"H","country":"XW"} => 403
		clerk PUT /parcels/{s}/address {"name":"M T","street":"","postcode":"41360","town":"H","country":"XW"} => 422 ‹street is missing›
		clerk PUT /parcels/{s}/address {"name":"M T","street":"Row 15","postcode":"41360","town":"H","country":"XW"} => 200 ‹Row 15›
		clerk POST /parcels/actions {"action":"dance","parcels":["{s}"]} => 422
		viewer POST /parcels/actions {"action":"unpack parcels","parcels":["{s}"]} => 403
		clerk POST /parcels/actions {"action":"unpack parcels","parcels":["{s}","NONE"]} => 200 ‹no such parcel›
		clerk GET /orders/S-1/pick-list.pdf => 200 ‹%PDF›
		clerk POST /pick-lists.pdf?orders=S-1 => 200 ‹%PDF›
		viewer GET /manifests => 200
		viewer GET /shipments/NONE => 404
		viewer GET /parcels/{s}/serials => 200
	`)
}

func TestSendingOtherwiseByTheInterface(t *testing.T) {
	c := talk(t, "anna")
	c.Stock(10, "JAR", "LID")
	c.Sell("S-1", trial.Units("JAR", 2))
	c.Sell("S-2", trial.Units("LID", 1))
	c.says(`
		clerk GET /orders/S-1/companions => 200 ‹same recipient: Maren Tolland›
		viewer GET /orders/S-1/companions => 200 ‹same recipient and address›
		clerk GET /orders/NONE/companions => 404
		viewer POST /orders/S-1/together {"with":["S-2"]} => 403
		packer POST /orders/S-1/together {"with":["S-7"]} => 404 ‹S-7›
		packer POST /orders/S-1/together {"with":["S-2"]} => 200 ‹"together":true›
		packer POST /orders/S-1/alone => 200 ‹"together":false›
		packer POST /orders/S-1/alone => 409 ‹travels alone›
		packer POST /orders/S-1/plan {"kind":"keep back","lines":{"1025":1}} => 403
		clerk POST /orders/S-1/plan {"kind":"keep back","lines":{"7":1}} => 422 ‹no line 7›
		clerk POST /orders/S-1/plan {"kind":"keep back","lines":{}} => 422
		clerk POST /orders/S-1/plan {"kind":"dance","lines":{"1025":1}} => 422
		clerk POST /orders/S-1/plan {"kind":"keep back","lines":{"1025":2}} => 409 ‹hold the order instead›
		clerk POST /orders/S-1/plan {"kind":"keep back","lines":{"1025":1},"reason":"by truck"} => 200 ‹"kept_back":1›
		clerk POST /orders/S-1/plan {"kind":"keep back","lines":{"1025":0}} => 200
		clerk POST /orders/S-1/plan {"kind":"split","lines":{"1025":1}} => 200 ‹S10003›
		clerk POST /orders/S-1/plan {"kind":"move","to":"nowhere","lines":{"1025":1}} => 422 ‹nowhere›
		clerk GET /orders?to_pick=true => 200 ‹S-1› ‹S-2›
	`)
}

func TestRoundsByTheInterface(t *testing.T) {
	c := talk(t, "anna")
	c.Stock(10, "JAR", "LID")
	c.Sell("S-1", trial.Units("JAR", 2))
	c.Sell("S-2", trial.Units("JAR", 1), trial.Units("LID", 1))
	c.Sell("S-3", trial.Units("LID", 1))
	c.says(`
		viewer POST /rounds {"orders":["S-1"]} => 403
		clerk POST /rounds {} => 422 ‹say which orders›
		clerk POST /rounds {"orders":["NONE"]} => 409 ‹there is no such order›
		clerk POST /rounds {"rule":"none"} => 404 ‹none›
		clerk POST /rounds {"orders":["S-1","NONE","S-2"]} => 200 ‹"why":"there is no such order"› r=number
		viewer GET /rounds => 200 ‹{r}› !‹Tolland›
		viewer GET /rounds/{r} => 200 ‹"stops"› !‹Tolland›
		clerk GET /rounds/{r} => 200 ‹Tolland›
		clerk POST /rounds/{r}/scan {"code":"SPOON"} => 409 ‹not part of round›
		clerk POST /rounds/{r}/scan {"code":"JAR","quantity":3} => 200 ‹JAR: 2 into slot 1, 1 into slot 2›
		lead POST /rounds/{r}/scan {"code":"LID"} => 409 ‹take it over first›
		lead POST /rounds/{r}/take {} => 409
		lead POST /rounds/{r}/take {"over":true} => 200 ‹"mine":true›
		lead POST /rounds/{r}/take-back {"code":"JAR","slot":1} => 200 ‹"picked":2›
		lead POST /rounds/{r}/short {"code":"LID","quantity":9} => 409
		lead POST /rounds/{r}/leave {"slot":9} => 422
		lead POST /rounds/{r}/leave {"slot":2} => 200 ‹"slots":[›
		clerk GET /rounds/{r}/round.pdf?size=roll => 200 ‹%PDF›
		clerk GET /rounds/{r}/round.pdf?size=a3 => 422 ‹roll›
		clerk GET /orders/S-1/pick-list.pdf?size=label => 200 ‹%PDF›
		lead POST /rounds/{r}/take-apart => 200 ‹"state":"taken apart"›
		clerk PUT /round-rules/std {"name":"Standard","location":"alder"} => 403
		lead PUT /round-rules/A%20B {"name":"Standard","location":"alder"} => 422 ‹code›
		lead PUT /round-rules/std {"name":"Standard","location":"alder","today":true} => 409 ‹has no hours›
		lead PUT /round-rules/std {"name":"Standard","location":"alder"} => 200 ‹"slots":12›
		viewer GET /round-rules => 200 ‹std›
		clerk POST /rounds {"rule":"std"} => 200 ‹"rule":"std"›
		lead DELETE /round-rules/std => 204
		lead DELETE /round-rules/std => 404
		clerk GET /rounds/NONE => 404
	`)
	c.Holds()
}

func TestReturnsByTheInterface(t *testing.T) {
	c := talk(t, "anna")
	c.Stock(10, "JAR")
	c.Sell("S-1", trial.Units("JAR", 2))
	parcel := c.Packed("S-1")
	require.NoError(t, c.Label(parcel, "anna"))
	c.kept["p"] = parcel
	c.says(`
		viewer POST /returns {"order":"S-1"} => 403
		clerk POST /returns {"order":"NONE"} => 404 ‹NONE›
		clerk POST /returns {"order":"S-1","lines":{"1025":3}} => 409 ‹2 × JAR of order O10001 may come back, not 3›
		clerk POST /returns {"order":"S-1","lines":{"1025":2},"reason":"Maren Tolland has enough"} => 200 ‹"state":"announced"› r=number
		viewer GET /returns => 200 ‹{r}› ‹hidden› !‹has enough› !‹Tolland›
		viewer GET /returns/{r} => 200 ‹"sent":2› !‹has enough›
		viewer GET /orders/S-1 => 200 ‹{r}› !‹has enough›
		viewer GET /activity => 200 !‹has enough›
		clerk GET /returns?state=announced => 200 ‹has enough›
		clerk GET /find?code={r} => 200 ‹"kind":"return"›
		clerk POST /parcels/{p}/void {} => 409 ‹call that off first›
		clerk POST /returns/{r}/scan {"code":"JAR","outcome":"shelf"} => 422 ‹outcome›
		clerk POST /returns/{r}/scan {"code":"JAR","quantity":3,"outcome":"stock"} => 409
		clerk POST /returns/{r}/scan {"code":"GHOST","outcome":"stock"} => 409 ‹did not leave with order›
		clerk POST /returns/{r}/scan {"code":"JAR","outcome":"look"} => 200 ‹"look":1› rev=revision
		clerk POST /returns/{r}/move {"code":"JAR","from":"look","to":"stock"} => 200 ‹"stock":1›
		clerk POST /returns/{r}/call-off => 409
		clerk POST /returns/{r}/settle {"amount":1000} [If-Match: "{rev}"] => 412
		clerk POST /returns/{r}/settle {"amount":999999} => 409 ‹at most 20.00 EUR›
		viewer POST /returns/{r}/settle {"amount":1000} => 403
		clerk POST /returns/{r}/settle {"amount":1000} => 200 ‹"state":"settled"›
		clerk POST /returns {"order":"{p}"} => 200 second=number
		clerk POST /returns/{second}/exchange {"lines":[]} => 422
		clerk POST /returns/{second}/exchange {"lines":[{"sku":"JAR","quantity":1}]} => 200 ‹"exchange"› made=exchange
		clerk GET /orders/{made} => 200 ‹"exchange_for":"{second}"› ‹"total":0›
		clerk POST /returns/{second}/call-off => 200 ‹"state":"called off"›
		clerk POST /parcels/{p}/keep => 409 ‹is not being voided›
		clerk GET /returns/NONE => 404
	`)
	c.Holds()
}

func TestListingsByTheInterface(t *testing.T) {
	c := talk(t)
	c.JoinShelf()
	c.Stock(10, "JAR", "LID")
	c.Take("stall", trial.Event("listing", "L-1", 1, message.Listing{SKU: "POT", Title: "A pot", Price: 500, Currency: "EUR",
		State: "live"}))
	c.says(`
		viewer GET /listings => 200 ‹"sku":"POT"› listing=0.id
		viewer GET /listings/counts => 200 ‹stall›
		viewer GET /listings?match=to+match => 200 ‹POT›
		viewer GET /listings?match=matched => 200 !‹POT›
		clerk POST /listings/{listing}/match {"item":"NONE"} => 404 ‹NONE›
		clerk POST /listings/{listing}/match {"item":"JAR"} => 200 ‹"item":"JAR"›
		clerk POST /listings/{listing}/ignore {"ignore":true} => 409 ‹end the match first›
		clerk PUT /listings/{listing}/policy {"buffer":2} => 200
		clerk POST /listings/{listing}/unmatch => 200 !‹"item":"JAR"›
		clerk POST /listings/{listing}/unmatch => 409 ‹not matched›
		clerk POST /listings/{listing}/ignore {"ignore":true} => 200
		viewer GET /listings?match=ignored => 200 ‹POT›
		clerk POST /listings/{listing}/ignore {"ignore":false} => 200
		clerk POST /listings/{listing}/create-item {"sku":"JAR"} => 409 ‹there is an item JAR already›
		clerk POST /listings/{listing}/create-item {"sku":"POT-1"} => 200 ‹POT-1›
		clerk POST /listings/999/match {"item":"JAR"} => 404
		clerk PUT /listings/{listing}/own {"title":"A pot of our own"} => 200
		clerk POST /connections/shelf/publish/preview {"skus":["JAR","NONE"]} => 422 ‹there is no item NONE›
		clerk POST /connections/shelf/publish/preview {} => 422 ‹choose items›
		clerk POST /connections/shelf/publish/preview {"skus":["JAR"]} => 200 ‹"action":"list"› digest=digest
		clerk POST /connections/shelf/publish {"skus":["JAR"],"digest":"another"} => 409
		clerk POST /connections/shelf/publish {"skus":["JAR"],"digest":"{digest}"} => 200 ‹"sent":1›
		clerk POST /connections/stall/publish/preview {"skus":["JAR"]} => 409
	`)
}

func TestExceptionsByTheInterface(t *testing.T) {
	c := talk(t)
	c.Stock(10, "JAR")
	c.Sell("S-1", trial.Units("GHOST", 1))
	c.Sell("S-2", trial.Units("GHOST", 2))
	c.says(`
		viewer GET /exceptions => 200 ‹unknown item› ‹GHOST›
		viewer GET /exceptions/causes => 200 ‹unknown item›
		viewer GET /exceptions/of?cause=unknown+item&connection=stall&subject=GHOST => 200 ‹O10001›
		viewer GET /exceptions/of => 422
		clerk POST /exceptions/assign {"cause":"unknown item","connection":"stall","subject":"GHOST","assignee":"Joss"}
			=> 200 ‹"count":2›
		viewer GET /exceptions?assignee=Joss => 200 ‹GHOST›
		clerk POST /exceptions/snooze {"cause":"unknown item","connection":"stall","subject":"GHOST","until":"2026-11-24T08:00:00Z"}
			=> 200 ‹"count":2›
		viewer GET /exceptions => 200 !‹GHOST›
		viewer GET /exceptions?asleep=true => 200 ‹GHOST›
		clerk POST /exceptions/snooze {"cause":"unknown item","connection":"stall","subject":"GHOST"} => 200 ‹"count":2›
		clerk GET /exceptions/suggest?connection=stall&sold=GHOST => 200
		clerk POST /exceptions/known {"connection":"stall","sold":"GHOST","sku":"NONE"} => 422 ‹NONE›
		clerk POST /exceptions/known {"connection":"nobody","sold":"GHOST","sku":"JAR"} => 404 ‹nobody›
		clerk POST /exceptions/known {"connection":"stall","sold":"GHOST","sku":"JAR"} => 200 ‹"freed":2›
		viewer GET /exceptions => 200 !‹GHOST›
		viewer GET /orders?stage=ready => 200 ‹S-1› ‹S-2›
		clerk POST /exceptions/settle {"cause":"unknown item"} => 409
		lead PUT /targets {"kind":"webhook","address":"https://hook.test/x","causes":["gossip"],"every_minutes":5,"on":true}
			=> 422 ‹gossip›
		lead PUT /targets {"kind":"webhook","address":"not a url","every_minutes":5,"on":true} => 422 ‹https URL›
		lead PUT /targets {"kind":"pigeon","address":"x","every_minutes":5,"on":true} => 422
		lead PUT /targets {"kind":"webhook","address":"https://hook.test/x","every_minutes":5,"on":true} => 200 ‹whsec_› target=id
		lead GET /targets => 200 ‹hook.test› !‹whsec_›
		lead GET /targets/{target}/notices => 200
		lead DELETE /targets/{target} => 204
		lead GET /targets => 200 !‹hook.test›
	`)
}

func TestRulesByTheInterface(t *testing.T) {
	c := talk(t)
	c.Stock(10, "JAR")
	c.Sell("S-1", trial.Units("JAR", 1))
	c.says(`
		viewer GET /rules => 200 ‹[]›
		viewer GET /rules/words => 200 ‹"fields"› ‹weight›
		clerk POST /rules/read {"when":"weight > 5","then":"tag(\"heavy\")"} => 200 ‹"sentence"›
		clerk POST /rules/read {"when":"weight >","then":""} => 200 ‹"problem"›
		lead POST /rules {"name":"All","position":0,"on":true,"when":"","then":"tag(\"seen\")"}
			=> 200 ‹"name":"All"› rule=0.id seen=0.revision
		lead POST /rules {"name":"All","position":0,"on":true,"when":"colour == 1","then":"tag(\"x\")"} => 422 ‹colour›
		lead POST /rules {"name":"Far","position":0,"on":true,"when":"","then":"ship(\"MOON\")"} => 422
		clerk POST /rules/rehearse {"name":"Another","on":true,"when":"","then":"tag(\"other\")","position":1,"orders":10}
			=> 200 ‹"took_ms"›
		clerk POST /rules/rehearse {"name":"Bad","on":true,"when":"weight >","then":""} => 422
	`)
	c.Sell("S-2", trial.Units("JAR", 1))
	c.says(`
		viewer GET /orders?tag=seen => 200 ‹S-2› !‹S-1›
		lead POST /rules
			{"id":{rule},"revision":{seen},"name":"All","position":0,"on":true,"when":"","then":"tag(\"seen\")","remove":true} => 200 ‹[]›
		lead POST /rules
			{"id":{rule},"revision":{seen},"name":"All","position":0,"on":true,"when":"","then":"tag(\"seen\")","remove":true} => 404
		viewer GET /reports/source?from=2026-11-01&to=2026-11-30 => 200 ‹stall›
		viewer GET /reports/weather => 422 ‹path.code›
		viewer GET /reports/source.csv?from=2026-11-01&to=2026-11-30 => 200 ‹stall›
		viewer GET /reports/source?from=yesterday => 422
	`)
}

func TestConnectionsByTheInterface(t *testing.T) {
	c := talk(t)
	c.says(`
		viewer GET /connections => 200 ‹"code":"stall"› !‹stall-key›
		viewer GET /connections/stall => 200 ‹"paused":false› revision=revision
		viewer GET /connections/nobody => 404 ‹nobody›
		lead PATCH /connections/stall {"paused":true} => 428
		lead PATCH /connections/stall {"paused":true} [If-Match: "999"] => 412
		lead PATCH /connections/stall {"paused":true} [If-Match: "{revision}"] => 200 ‹"paused":true› next=revision
		lead PATCH /connections/stall {"paused":false} [If-Match: "{next}"] => 200 ‹"paused":false›
		lead PATCH /connections/stall/feeds/stock%20out {"on":false} => 428
		lead PATCH /connections/stall/feeds/gossip {"on":true} [If-Match: "1"] => 404 ‹no feed gossip›
		clerk POST /connections/stall/feeds/orders%20in/run {} => 422
		clerk POST /connections/stall/try-again => 200 ‹"messages":0›
		viewer GET /runs => 200
		viewer GET /runs/999 => 404
		viewer GET /files => 200 ‹[]›
		viewer GET /files?connection=stall => 200 ‹[]›
		viewer GET /files?connection=nowhere => 404
		viewer GET /accounts => 200 !‹stall-key›
		viewer GET /connectors => 200 ‹"connector":"hedgerow"›
		viewer GET /connectors/hedgerow => 200 ‹"text"›
		viewer GET /connectors/none => 404
		clerk POST /connectors/check {"text":"connector: x"} => 200 ‹"good":false› ‹"mistakes"›
		lead POST /connectors {"text":"connector: hedgerow\ntitle: Mine\nextends: tansy"} => 409 ‹already›
		lead DELETE /connectors/hedgerow => 404
		lead POST /connectors/draft {"code":"weft","way":"key"} => 200 ‹connector: weft› ‹access.steps›
		lead POST /connectors/draft {"code":"hedgerow"} => 422 ‹already›
		clerk POST /connectors/draft {"code":"weft"} => 403
		clerk POST /connectors/complete {"text":"connector: weft\nsi","line":2,"column":3} => 200 ‹"label":"side"›
		clerk POST /connectors/try {"text":"connector: x","feed":"orders in","sample":"{}"} => 422
		clerk GET /connectors/hedgerow/sample?feed=stock+out => 200 ‹"text"›
		clerk GET /connectors/hedgerow/sample?feed=none => 422 ‹no feed›
		viewer GET /connectors/hedgerow/sample?feed=stock+out => 403
		lead POST /connectors {"text":"connector: mine\ntitle: Mine\nextends: tansy","note":"first"} => 200 ‹"added":true›
		lead POST /connectors {"text":"connector: mine\ntitle: Mine too\nextends: tansy"} => 200
		lead POST /connectors/compare {"text":"connector: mine\ntitle: Ours\nextends: tansy"} => 200 ‹"version":2› ‹+title: Ours›
		clerk POST /connectors/compare {"text":"connector: mine\ntitle: Ours\nextends: tansy"} => 403
		viewer GET /connectors/mine/versions => 200 ‹"version":2› ‹"note":"first"›
		viewer GET /connectors/none/versions => 404
		viewer GET /connectors/mine/versions/2 => 200 ‹+title: Mine too›
		viewer GET /connectors/mine/versions/7 => 404
		lead POST /connectors/mine/take-back {"version":2} => 422 ‹at work already›
		lead POST /connectors/mine/take-back {"version":1} => 200 ‹"title":"Mine"›
		clerk POST /connectors/mine/take-back {"version":1} => 403
		lead DELETE /connectors/mine => 204
		viewer GET /locations => 200 ‹alder› ‹pier›
		lead PUT /locations/mill {"name":"Mill Lane"} => 200
		viewer GET /locations => 200 ‹Mill Lane›
		clerk POST /joins {"connector":"none"} => 403
		lead POST /joins {"connector":"none"} => 422 ‹required property code›
		lead POST /joins {"connector":"hedgerow","name":"Second store","code":"second","test":false} => 200 ‹"code":"second"›
		lead POST /joins {"connector":"hedgerow","name":"Second store","code":"second","test":false} => 409
		lead GET /connections/second/join => 200 ‹"checklist"›
		viewer GET /services => 200 ‹"rows":[]› ‹"sold"› ‹"open"›
		viewer GET /bills => 200 ‹[]›
		clerk POST /bills/1 {"state":"accepted"} => 403
		viewer PUT /parcels/S1/claim {"state":"noted"} => 403
		viewer GET /reports/transit?from=2026-11-01&to=2026-11-30 => 200 ‹"rows":[]›
		viewer GET /reports/transit-weeks?from=2026-11-01&to=2026-11-30 => 200 ‹"rows":[]›
		viewer GET /collections => 200 ‹"rows":[]›
		clerk PUT /collections {"rows":[]} => 403
		lead PUT /collections {"rows":[{"carrier":"nobody","place":"alder","hours":{}}]} => 422 ‹row 1›
		lead PUT /services {"rows":[{"service":"cheapest in 0 days"}]} => 422 ‹row 1› ‹at least one day›
		lead PUT /services {"rows":[{"word":"express","service":"ask"}]} => 200 ‹"word":"express"›
		clerk PUT /services {"rows":[]} => 403
		lead POST /connections/second/switch-on => 409
		lead POST /connections/second/confirm {"number":"1","yes":true} => 409 ‹test the access first›
		lead DELETE /connections/second/join => 204
		viewer GET /connections/second => 404
		lead GET /setup => 200 ‹env:› !‹stall-key›
		lead POST /setup/plan {"text":"setup: 1\ncompany: Another"} => 200 ‹Another›
		lead POST /setup/plan {"text":"setup: 9"} => 422
		viewer GET /company => 200 ‹Morrow Hive Supply›
		lead PUT /company {"name":"Morrow Hive","time_zone":"Nowhere/Land"} => 422 ‹Nowhere/Land›
		lead PUT /company {"name":"Morrow Hive","time_zone":"Etc/GMT-1"} => 200 ‹Etc/GMT-1›
		viewer GET /privacy => 200 ‹"keep_days":0›
		lead PUT /privacy {"keep_days":-1} => 422
		lead PUT /privacy {"keep_days":90} => 200 ‹"keep_days":90›
		viewer GET /me => 200 ‹"role":"viewer"›
	`)
}

func TestTablesByTheInterface(t *testing.T) {
	c := talk(t)
	c.Stock(10, "JAR")
	c.says(`
		viewer GET /sheet-kinds => 200 ‹"kind":"items"›
		viewer GET /sheets => 200 ‹[]›
		viewer GET /sheets/9 => 404
		viewer GET /saved/items.csv => 200 ‹JAR›
		viewer GET /saved/gossip.csv => 404 ‹there are items›
	`)
	w := c.askWith(person.Clerk, http.MethodPost, "/api/v1/sheets/items", "sku,name,price\nLID,Lid,1.50\nJAR,Jar,abc\n",
		map[string]string{"Content-Type": "text/csv", "X-File-Name": "items.csv"})
	require.Less(t, w.Code, 300, w.Body.String())
	var s struct{ ID int64 }
	require.NoError(t, json.Unmarshal(w.Body.Bytes(), &s))
	c.kept["s"] = strconv.FormatInt(s.ID, 10)
	require.Eventually(t, func() bool {
		return strings.Contains(c.ask(person.Viewer, http.MethodGet, "/api/v1/sheets/"+c.kept["s"], "").Body.String(), `"state":"checked"`)
	}, 20*time.Second, 5*time.Millisecond)
	c.says(`
		viewer GET /sheets/{s}/rows => 200 ‹"verdict":"add"› ‹"verdict":"refused"› ‹price›
		viewer GET /sheets/{s}/rows?verdict=refused => 200 !‹"verdict":"add"›
		viewer POST /sheets/{s}/apply => 403
		clerk POST /sheets/{s}/apply => 200
	`)
	require.Eventually(t, func() bool {
		return strings.Contains(c.ask(person.Viewer, http.MethodGet, "/api/v1/sheets/"+c.kept["s"], "").Body.String(), `"state":"done"`)
	}, 20*time.Second, 5*time.Millisecond)
	c.says(`
		viewer GET /items/LID/record => 200 ‹"price":150›
		viewer GET /items/JAR/record => 200 !‹abc›
	`)
}

func TestBackupsByTheInterface(t *testing.T) {
	c := talk(t)
	c.says(`
		clerk GET /backups => 403 ‹needs the role lead›
		lead GET /backups => 200 ‹"folder":true› ‹"passphrase":false› ‹"at":"02:30"› ‹"list":[]›
		lead POST /backups => 422 ‹passphrase first›
		lead PUT /backups {"on":true,"at":"2:30am","keep":3,"passphrase":"heather and lime"} => 422 ‹time of day›
		lead PUT /backups {"on":true,"at":"03:00","keep":3,"passphrase":"heather"} => 422 ‹too short›
		lead PUT /backups {"on":true,"at":"03:00","keep":3,"passphrase":"heather and lime"} => 200 ‹"passphrase":true› !‹heather›
		lead POST /backups => 200 ‹"at":"03:00"›
		lead POST /keys/rotate => 200 ‹"key":2›
		packer POST /keys/rotate => 403
		lead GET /activity => 200 !‹heather›
	`)
}

func TestParcelsAndNumbersByTheInterface(t *testing.T) {
	c := talk(t)
	c.says(`
		clerk PUT /profiles/crate {"name":"Crate","length_mm":600,"width_mm":400,"height_mm":300,"tare_g":900,"max_g":20000} => 403
		lead PUT /profiles/crate {"name":"Crate","length_mm":600,"width_mm":400,"height_mm":300,"tare_g":900,"max_g":20000}
			=> 200 ‹"code":"crate"›
		lead PUT /profiles/crate {"name":"Crate","length_mm":0,"width_mm":400,"height_mm":300,"tare_g":900,"max_g":20000}
			=> 422 ‹millimetres›
		viewer GET /profiles => 200 ‹"crate"›
		lead POST /profiles/crate/archive {"archived":true} => 200 ‹"archived_at"›
		viewer GET /profiles => 200 !‹"crate"›
		lead GET /kept-profiles => 200 ‹"crate"›
		lead POST /profiles/sack/archive {"archived":true} => 404 ‹parcel profile sack›
		lead PUT /series/order {"prefix":"MH-","next":501} => 200 ‹"next":501›
		lead PUT /series/order {"prefix":"no good","next":501} => 422 ‹prefix›
		clerk GET /setting-changes => 403
		lead GET /setting-changes => 200 ‹"kind":"profile","code":"crate"› ‹"undoable":true›
		lead POST /setting-changes/3/undo => 200 ‹"undoes":3›
		lead GET /profiles => 200 ‹"crate"›
		lead POST /setting-changes/3/undo => 409 ‹undone already›
		lead POST /setting-changes/99/undo => 404
		clerk POST /setting-changes/2/undo => 403
		lead GET /series => 200 ‹MH-›
	`)
}

func TestRoutingByTheInterface(t *testing.T) {
	c := talk(t)
	c.Stock(10, "JAR")
	k := c.Kit
	conn := k.ByCode("stall")
	s := *conn.Settings()
	s.Offer.Sources = []int64{k.PlaceID("alder"), k.PlaceID("pier")}
	require.NoError(t, k.SetSettings(t.Context(), "stall", s, conn.Rec().Revision, "Edda"))
	c.says(`
		viewer GET /routing => 200 ‹"policy":{}› ‹"currency":"EUR"›
		clerk PUT /routing {"on":true,"parcel":90} => 403
		lead PUT /routing {"on":true} => 422 ‹split for nothing›
		lead PUT /routing {"on":true,"parcel":90,"places":{"moon":{"order":1}}} => 422 ‹no place \"moon\"›
		lead PUT /routing {"on":true,"parcel":90,"places":{"pier":{"order":60}}} => 200 ‹"order":60›
	`)
	c.Sell("S-1", trial.Units("JAR", 1))
	c.says(`
		viewer GET /orders/O10001/plan => 200 ‹"planned":true› ‹"place":"alder"› ‹"cost":90›
		viewer GET /orders/O99999/plan => 404
		viewer POST /orders/O10001/replan {} => 403
		clerk POST /orders/O10001/replan {} => 200 ‹"changed":false›
		clerk POST /orders/O10001/replan {} [If-Match: "77"] => 412
		clerk POST /routing/rehearse {"on":true,"parcel":90} => 403
		lead POST /routing/rehearse {"on":true,"parcel":120} => 200 ‹"orders":1› ‹"changed":0›
		clerk POST /routing/replan {"place":"moon"} => 422 ‹moon›
		clerk POST /routing/replan {"place":"alder","reason":"closed"} => 200 ‹"job":›
	`)
}
