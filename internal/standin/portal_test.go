package standin

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const aMenu = `{"dishes":[
	{"code":"SOUP","name":"Soup of the day","cents":690,"can_be_ordered":true,"choices":[{"key":"bread","name":"Bread","take":[1,1],
		"options":[{"key":"rye","name":"Rye","cents":0},{"key":"oat","name":"Oat & honey","cents":40}]}]},
	{"code":"FREE","name":"Nothing","cents":0}]}`

// portal is an ordering portal with a menu, which rings by hand.
func portal(t *testing.T) (*Nosh, string, map[string]string) {
	t.Helper()
	n := NewNosh(NoshConfig{Kitchen: "Mill Lane", Number: "77", Land: "XW", Key: "kitchen-key", ByHand: true})
	t.Cleanup(n.Stop)
	base, key := serve(t, n), map[string]string{"Kitchen-Key": "kitchen-key"}
	status, said, _ := ask(t, "POST", base+"/np/menu", aMenu, key)
	require.Equal(t, 200, status)
	require.Contains(t, said, "a dish has a code, a name and a price", "one dish that is none keeps no other off the menu")
	return n, base, key
}

// TestAPortalsMenu is the kitchen's: shown to guests with its questions, and only the kitchen's key changes it.
func TestAPortalsMenu(t *testing.T) {
	n, base, key := portal(t)
	assert.Equal(t, map[string]int{"SOUP": 1}, n.Menu())
	assert.Equal(t, int64(690), n.Price("SOUP"))
	status, said, _ := ask(t, "POST", base+"/np/menu", aMenu, nil)
	assert.Equal(t, 401, status)
	assert.Contains(t, said, "no kitchen's key")
	_, page, _ := ask(t, "GET", base+"/menu", "", nil)
	assert.Contains(t, page, "Oat &amp; honey +0.40")
	_, said, _ = ask(t, "GET", base+"/np/menu", "", key)
	var menu struct {
		Dishes []struct{ Code, No string }
	}
	require.NoError(t, json.Unmarshal([]byte(said), &menu))
	no := menu.Dishes[0].No
	_, said, _ = ask(t, "POST", base+"/np/portions", fmt.Sprintf(`{"portions":[{"no":%q,"count":3},{"no":"D0","count":1}]}`, no), key)
	assert.JSONEq(t, fmt.Sprintf(`{"results":[{"no":%q,"ok":true},{"no":"D0","ok":false}]}`, no), said)
	_, again, _ := ask(t, "POST", base+"/np/menu", strings.Replace(aMenu, "690", "740", 1), key)
	assert.Contains(t, again, no, "a dish that changes keeps its number")
	assert.Equal(t, int64(740), n.Price("SOUP"))
}

// TestAGuestsOrder rings at the kitchen, is answered once, goes out, and what nobody answered lapses.
func TestAGuestsOrder(t *testing.T) {
	n, base, key := portal(t)
	var rung []map[string]any
	kitchen := serve(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var in map[string]any
		raw, err := io.ReadAll(r.Body)
		if assert.NoError(t, err) && assert.NoError(t, json.Unmarshal(raw, &in)) {
			rung = append(rung, in["order"].(map[string]any))
		}
	}))
	n.SetBell("bell-key")
	status, _, _ := ask(t, "POST", base+"/control/api/hook", fmt.Sprintf(`{"url":%q}`, kitchen), nil)
	require.Equal(t, 200, status)
	_, err := n.Order(NoshSale{Dishes: []NoshDishSale{{Code: "CAKE"}}})
	require.ErrorContains(t, err, `no "CAKE" on the menu`)
	ref, err := n.Order(
		NoshSale{Brought: true, Voucher: 100, Dishes: []NoshDishSale{{Code: "SOUP", Count: 2, Choices: []string{"bread/oat"}}}})
	require.NoError(t, err)
	require.Equal(t, 1, n.Ringing())
	require.True(t, n.RingNext(http.DefaultClient, 0, false))
	require.Len(t, rung, 1)
	assert.Equal(t, float64(2*730+250+50-100), rung[0]["to_pay"], "two soups with oat bread, brought, less a voucher")

	answer := func(ref, body string) (int, string) {
		status, said, _ := ask(t, "POST", base+"/np/orders/"+ref+"/answer", body, key)
		return status, said
	}
	status, _ = answer("NL-0", `{"take":true}`)
	assert.Equal(t, 404, status)
	status, _, _ = ask(t, "POST", base+"/np/orders/"+ref+"/out", "{}", key)
	assert.Equal(t, 409, status, "nobody has taken it")
	for range 2 {
		status, _ = answer(ref, `{"take":true,"ready":"2026-11-23T12:00:00Z"}`)
		assert.Equal(t, 200, status, "the same word again is heard once")
	}
	assert.Equal(t, "accepted", n.Stands(ref))
	for range 2 {
		status, _, _ = ask(t, "POST", base+"/np/orders/"+ref+"/out", "{}", key)
		assert.Equal(t, 200, status)
	}
	assert.Equal(t, "out", n.Stands(ref))
	require.Error(t, n.CallOff(ref), "it is on its way")

	second, err := n.Order(NoshSale{})
	require.NoError(t, err)
	require.NoError(t, n.CallOff(second))
	status, said := answer(second, `{"take":true}`)
	assert.Equal(t, 409, status)
	assert.Contains(t, said, "called off")
	n.Lapse()
	assert.Equal(t, map[string]string{ref: "out", second: "called off"}, n.Book(), "what is settled does not lapse")
	_, said, _ = ask(t, "GET", base+"/np/orders?since=2026-01-01T00:00:00Z", "", key)
	assert.Equal(t, 2, strings.Count(said, `"ref"`))
}

// shopper is somebody with a browser, whose basket is kept in a cookie.
func shopper(t *testing.T) *http.Client {
	t.Helper()
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	return &http.Client{Jar: jar}
}

func post(t *testing.T, c *http.Client, to string, form url.Values) string {
	t.Helper()
	res, err := c.PostForm(to, form)
	require.NoError(t, err)
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return string(raw)
}

// TestAShopperBuys: shelf, basket, the delivery choices of whoever answers for them, and the order's own page.
func TestAShopperBuys(t *testing.T) {
	h, base := shop(t)
	c := shopper(t)
	_, shelf, _ := ask(t, "GET", base+"/", "", nil)
	assert.Contains(t, shelf, "Jar")
	post(t, c, base+"/basket", url.Values{"sku": {"JAR"}, "quantity": {"1"}})
	page := post(t, c, base+"/basket", url.Values{"sku": {"JAR"}, "quantity": {"1"}})
	assert.Contains(t, page, "23.80", "the same again adds to its line")
	assert.Contains(t, page, "Standard", "without anybody to ask, the store has its own choices")
	assert.Contains(t, post(t, c, base+"/basket", url.Values{"sku": {"JAR"}, "quantity": {"none"}}), "How many?")
	form := url.Values{"name": {"Maren Tolland"}, "email": {"maren@example.test"}, "street": {"Lindenrow 14"}, "postcode": {" 41360 "},
		"town": {"Harrowmere"}, "country": {"XW"}, "delivery": {"express|990"}, "method": {"card"}}
	page = post(t, c, base+"/checkout", form)
	assert.Contains(t, page, "being prepared")
	assert.Equal(t, int64(3), h.Shelf()["JAR"])

	post(t, c, base+"/basket", url.Values{"sku": {"JAR"}, "quantity": {"9"}})
	page = post(t, c, base+"/checkout", form)
	assert.Contains(t, page, "That did not work")
	assert.Equal(t, int64(3), h.Shelf()["JAR"])
}

// TestDeliveryChoicesAreAskedFor, and an answer that is none leaves the store its own.
func TestDeliveryChoicesAreAskedFor(t *testing.T) {
	h, base := shop(t)
	said := `{"choices":[{"code":"bike","name":"By bicycle","price":350}]}`
	relay := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, said) }))
	h.mu.Lock()
	h.options = relay.URL
	h.mu.Unlock()
	basket := func() string {
		return post(t, shopper(t), base+"/basket", url.Values{"sku": {"JAR"}, "quantity": {"1"}})
	}
	assert.Contains(t, basket(), "By bicycle")
	for _, said = range []string{`{"choices":[]}`, "not JSON"} {
		assert.Contains(t, basket(), "Standard")
	}
	relay.Close()
	assert.Contains(t, basket(), "Standard")
}

// TestAPortalIsToldByHandWhomItCalls: address and key are put in on its page, and what is no address is refused.
func TestAPortalIsToldByHandWhomItCalls(t *testing.T) {
	_, base, _ := portal(t)
	called := make(chan http.Header, 1)
	relay := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { called <- r.Header }))
	t.Cleanup(relay.Close)
	c := shopper(t)
	require.Contains(t, post(t, c, base+"/control/relay", url.Values{"hook": {"the relay"}, "key": {"x"}}), "An address such as")
	page := post(t, c, base+"/control/relay", url.Values{"hook": {relay.URL + "/in/nosh"}, "key": {" bell-key "}})
	require.Contains(t, page, "Orders are told to "+relay.URL+"/in/nosh, with the key that was put in")
	require.NotContains(t, page, "bell-key", "a key is not shown again")
	page = post(t, c, base+"/control/relay", url.Values{"hook": {relay.URL + "/in/other"}, "key": {""}})
	require.Contains(t, page, "/in/other, with the key that was put in", "an empty key leaves the one that was put in")
}

// TestWhatLivesInThePast dates what it does then, also in the answers to whoever asks.
func TestWhatLivesInThePast(t *testing.T) {
	h, base := shop(t)
	h.Live(48 * time.Hour)
	res, err := http.Get(base + "/api/orders")
	require.NoError(t, err)
	res.Body.Close()
	said, err := http.ParseTime(res.Header.Get("Date"))
	require.NoError(t, err)
	assert.InDelta(t, 48, time.Since(said).Hours(), 0.1)
	h.Live(0)
	res, err = http.Get(base + "/api/orders")
	require.NoError(t, err)
	res.Body.Close()
	said, err = http.ParseTime(res.Header.Get("Date"))
	require.NoError(t, err)
	assert.InDelta(t, 0, time.Since(said).Hours(), 0.1)
}
