package cli

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"testing"
)

// openShop is a system with a feed of each kind.
const openShop = `connector: open-shop
title: Open shop
side: channel
access:
  way: key
  fields:
    - { name: key, label: Key, secret: true, pattern: "k[0-9]+", help: It begins with k. }
  send: { X-Key: secret.key }
calls:
  identity: { request: { method: GET, path: /who }, map: { name: body.name, number: body.no } }
  address: { request: { method: POST, path: /where, body: { town: msg.town } }, map: { deliverable: body.ok } }
feeds:
  customers in:
    id: item.no
    read: { request: { method: GET, path: /people } }
    map: { name: item.name }
  stock in: { topic: level, id: event.no, map: { sku: item.sku, quantity: item.n } }
  stock out:
    send: { request: { method: PUT, path: "/stock/{msg.sku}", body: { units: msg.quantity } } }
push: { signature: { scheme: shared, secret: key, value: header.x_key } }
`

// TestADefinitionIsTriedOnTheSystemItself: each feed and call, with the request that is made or would be.
func TestADefinitionIsTriedOnTheSystemItself(t *testing.T) {
	changed := 0
	people := `[{"no":1,"name":"Ilka"},{"name":"nobody"}]`
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		switch {
		case r.Header.Get("X-Key") != "k77":
			w.WriteHeader(401)
		case r.URL.Path == "/who":
			fmt.Fprint(w, `{"name":"The shop","no":7}`)
		case r.URL.Path == "/people":
			fmt.Fprint(w, people)
		case r.URL.Path == "/where":
			fmt.Fprint(w, `{"ok":true}`)
		default:
			changed++
		}
	}))
	t.Cleanup(srv.Close)
	o := newOffice(t)
	try := "connector try " + o.file("open-shop.yaml", openShop) + " -live -address " + srv.URL + " -reach 127.0.0.0/8 -set key="
	o.does(`
		` + try + `k77 ⇒ customers in  GET ` + srv.URL + `/people
		` + try + `k77 ⇒ 200, 1 of 2 records can be taken in
		` + try + `k77 ⇒ the record has no id
		` + try + `k77 ⇒ is pushed only
		` + try + `k77 ⇒ PUT ` + srv.URL + `/stock/SAMPLE
		` + try + `k77 ⇒ address       POST ` + srv.URL + `/where
		` + try + `k77 -feed "customers in" ⇒ Ilka
		` + try + `k77 -feed "stock out" ⇒ {"units":3}
		` + try + `k77 -json ⇒ "good": 1
		!` + try + `x1 ⇒ Key (key): this is not what it looks like; It begins with k.
		!` + try + `k8 ⇒ does not let us in. The field is key.
		!` + try + `k77 -set word=x ⇒ Open shop has no such field
		!` + try + `k77 -feed gossip ⇒ there is no such feed; there are: customers in
	`)
	if changed != 0 {
		t.Errorf("%d calls changed something", changed)
	}
	people = `{"no":1`
	o.does("!" + try + "k77 ⇒ customers in: GET /people: the body is no list; items says where")
}
