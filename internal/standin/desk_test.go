package standin

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func goods(n int) []Good {
	out := make([]Good, n)
	for i := range out {
		out[i] = Good{
			No:    fmt.Sprint(1000 + i),
			SKU:   fmt.Sprintf("SKU-%03d", i),
			Title: fmt.Sprintf("Thing & %d", i),
			Price: 1190,
			Shown: 5,
		}
	}
	return out
}

func serve(t *testing.T, h http.Handler) string {
	srv := httptest.NewServer(h)
	t.Cleanup(srv.Close)
	return srv.URL
}

// ask sends a request and returns the answer as it came.
func ask(t *testing.T, method, url, body string, header map[string]string) (int, string, http.Header) {
	t.Helper()
	req, err := http.NewRequest(method, url, strings.NewReader(body))
	require.NoError(t, err)
	for k, v := range header {
		req.Header.Set(k, v)
	}
	res, err := (&http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}).Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return res.StatusCode, string(raw), res.Header
}

func TestTansyGivesTokensForConsent(t *testing.T) {
	m := NewTansy(TansyConfig{AppNo: "app", AppSecret: "sec", Goods: goods(250), TokenLife: time.Minute,
		Sellers: []TansySeller{{"Us", "T-1", "westmark", "XW"}, {"Them", "T-2", "eastmark", "XE"}}})
	base := serve(t, m)
	form := map[string]string{"Content-Type": "application/x-www-form-urlencoded"}
	verifier := strings.Repeat("v", 50)
	sum := sha256.Sum256([]byte(verifier))
	q := url.Values{"client_id": {"app"}, "response_type": {"code"},
		"code_challenge_method": {"S256"}, "code_challenge": {base64.RawURLEncoding.EncodeToString(sum[:])},
		"redirect_uri": {"http://relay/back"}, "state": {"st"}}
	status, page, _ := ask(t, "GET", base+"/consent?"+q.Encode(), "", nil)
	require.Equal(t, 200, status)
	require.Contains(t, page, "seller T-2, site eastmark")
	for _, part := range []string{"client_id", "code_challenge", "redirect_uri", "state"} {
		bad := url.Values{}
		for k, v := range q {
			if k != part {
				bad[k] = v
			}
		}
		status, _, _ := ask(t, "GET", base+"/consent?"+bad.Encode(), "", nil)
		require.Equal(t, 400, status, "without %s", part)
	}
	allow := func(decision string) url.Values {
		status, _, h := ask(t, "POST", base+"/consent", url.Values{"query": {q.Encode()}, "seller": {"T-1"},
			"decision": {decision}}.Encode(), form)
		require.Equal(t, 303, status)
		u, err := url.Parse(h.Get("Location"))
		require.NoError(t, err)
		require.Equal(t, "st", u.Query().Get("state"))
		return u.Query()
	}
	require.Equal(t, "access_denied", allow("deny").Get("error"))
	token := func(v url.Values) (int, map[string]any) {
		v.Set("client_id", "app")
		if v.Get("client_secret") == "" {
			v.Set("client_secret", "sec")
		}
		status, text, _ := ask(t, "POST", base+"/token", v.Encode(), form)
		var out map[string]any
		require.NoError(t, json.Unmarshal([]byte(text), &out))
		return status, out
	}
	code := allow("allow").Get("code")
	exchange := url.Values{"grant_type": {"authorization_code"}, "code": {code}, "redirect_uri": {"http://relay/back"},
		"code_verifier": {"another"}}
	status, out := token(exchange)
	require.Equal(t, 400, status)
	require.Equal(t, "invalid_grant", out["error"], "a wrong verifier")
	exchange.Set("code_verifier", verifier)
	status, _ = token(exchange)
	require.Equal(t, 400, status, "a code is good for one try")
	exchange.Set("code", allow("allow").Get("code"))
	status, out = token(exchange)
	require.Equal(t, 200, status)
	require.InDelta(t, 60, out["expires_in"], 0)
	auth := map[string]string{"Authorization": fmt.Sprint("Bearer ", out["access_token"])}

	status, text, h := ask(t, "GET", base+"/m/westmark/offers", "", auth)
	require.Equal(t, 200, status)
	pages, tag := 1, h.Get("ETag")
	for strings.Contains(text, `"more":"`) {
		cursor := strings.Split(strings.Split(text, `"more":"`)[1], `"`)[0]
		_, text, _ = ask(t, "GET", base+"/m/westmark/offers?cursor="+cursor, "", auth)
		pages++
	}
	require.Equal(t, 3, pages, "250 in pages of 100")
	status, _, _ = ask(t, "GET", base+"/m/westmark/offers", "", map[string]string{"Authorization": auth["Authorization"],
		"If-None-Match": tag})
	require.Equal(t, 304, status)
	status, text, _ = ask(t, "GET", base+"/m/eastmark/offers", "", auth)
	require.Equal(t, 403, status)
	require.Contains(t, text, "westmark only")

	refresh := url.Values{"grant_type": {"refresh_token"}, "refresh_token": {fmt.Sprint(out["refresh_token"])}}
	status, newer := token(refresh)
	require.Equal(t, 200, status)
	status, _ = token(refresh)
	require.Equal(t, 400, status, "a refresh token is good once")
	m.ExpireTokens()
	status, _, _ = ask(t, "GET", base+"/account", "", auth)
	require.Equal(t, 401, status)
	m.Revoke(true)
	status, _ = token(url.Values{"grant_type": {"refresh_token"}, "refresh_token": {fmt.Sprint(newer["refresh_token"])}})
	require.Equal(t, 400, status)
}

func TestTansySlowsThoseWhoHurry(t *testing.T) {
	m := NewTansy(TansyConfig{AppNo: "app", Sellers: []TansySeller{{"Us", "T-1", "westmark", "XW"}}, PerSecond: 3})
	base := serve(t, m)
	slowed := 0
	for range 12 {
		status, _, h := ask(t, "GET", base+"/account", "", nil)
		if status == 429 {
			slowed++
			require.Equal(t, "1", h.Get("Retry-After"))
		}
	}
	require.Greater(t, slowed, 3)
}

func TestTansyHidesBuyersUntilTheyPaid(t *testing.T) {
	m := NewTansy(TansyConfig{AppNo: "app", Goods: goods(1), Sellers: []TansySeller{{"Us", "T-1", "westmark", "XW"}}})
	m.access["tok"] = tansyToken{m.cfg.Sellers[0], time.Now().Add(time.Hour)}
	base, auth := serve(t, m), map[string]string{"Authorization": "Bearer tok"}
	id, err := m.Sell(DeskSale{Pending: true})
	require.NoError(t, err)
	_, text, _ := ask(t, "GET", base+"/m/westmark/purchases/"+id, "", auth)
	require.Contains(t, text, `"buyer":null`)
	require.Contains(t, text, `"phase":"reserved"`)
	require.NoError(t, m.Complete(id))
	_, text, _ = ask(t, "GET", base+"/m/westmark/purchases/"+id, "", auth)
	require.Contains(t, text, `"phase":"cleared"`)
	require.Contains(t, text, `"rev":2`)
	require.NotContains(t, text, `"buyer":null`)
	consign := func(body string, more map[string]string) int {
		h := map[string]string{"Authorization": "Bearer tok"}
		for k, v := range more {
			h[k] = v
		}
		status, _, _ := ask(t, "POST", base+"/m/westmark/purchases/"+id+"/consignments", body, h)
		return status
	}
	require.Equal(t, 422, consign(`{}`, nil))
	require.Equal(t, 201, consign(`{"ref":"r","number":"N"}`, map[string]string{"Tansy-Rehearsal": "yes"}))
	_, text, _ = ask(t, "GET", base+"/m/westmark/purchases/"+id, "", auth)
	require.Contains(t, text, `"consignments":[]`, "a rehearsal changes nothing")
	require.Equal(t, 201, consign(`{"ref":"r","number":"N"}`, nil))
	require.Equal(t, 201, consign(`{"ref":"r","number":"N2"}`, nil))
	_, text, _ = ask(t, "GET", base+"/m/westmark/purchases/"+id, "", auth)
	require.Contains(t, text, `"consignments":[{"number":"N","ref":"r"}]`, "what was told stays")
	require.NoError(t, m.Cancel(id))
	require.Equal(t, 409, consign(`{"ref":"r2","number":"N"}`, nil))
	require.Error(t, m.Complete("none"))
	_, err = m.Sell(DeskSale{SKU: "NONE"})
	require.Error(t, err)
}

// proven signs a request as Bramble Row wants it.
func proven(method, target, body, key, secret string, at time.Time) map[string]string {
	u, _ := url.Parse(target)
	sum := sha256.Sum256([]byte(body))
	stamp := fmt.Sprint(at.Unix())
	mac := hmac.New(sha256.New, []byte(secret))
	fmt.Fprintf(mac, "%s\n%s\n%s\n%s", method, u.RequestURI(), stamp, hex.EncodeToString(sum[:]))
	return map[string]string{"Bramble-Key": key, "Bramble-Moment": stamp, "Bramble-Proof": base64.StdEncoding.EncodeToString(mac.Sum(nil))}
}

func TestBrambleWantsAProof(t *testing.T) {
	m := NewBramble(BrambleConfig{Name: "Us & them", Number: "B-1", Land: "XW", Key: "k", Secret: "s",
		Goods: append(goods(60), Good{No: "9", SKU: "R", Review: "rejected"}), ReportAfter: 50 * time.Millisecond})
	base := serve(t, m)
	call := func(method, path, body string) (int, string) {
		status, text, _ := ask(t, method, base+path, body, proven(method, base+path, body, "k", "s", time.Now()))
		return status, text
	}
	_, text := call("GET", "/br/whoami", "")
	require.Contains(t, text, "<Name>Us &amp; them</Name>")
	for code, h := range map[string]map[string]string{
		"unknown_key": proven("GET", base+"/br/whoami", "", "other", "s", time.Now()),
		"bad_proof":   proven("GET", base+"/br/whoami", "", "k", "other", time.Now()),
		"bad_moment":  proven("GET", base+"/br/whoami", "", "k", "s", time.Now().Add(-time.Hour)),
	} {
		status, text, _ := ask(t, "GET", base+"/br/whoami", "", h)
		require.Equal(t, 401, status)
		require.Contains(t, text, "<Code>"+code+"</Code>")
	}
	_, text = call("GET", "/br/listings?page=2", "")
	require.Contains(t, text, `page="2" pages="2"`)
	require.Equal(t, 11, strings.Count(text, "<Listing "))

	submit := func(ref, rows string) string {
		status, text := call("POST", "/br/submissions", `<Submission ref="`+ref+`">`+rows+`</Submission>`)
		require.Equal(t, 202, status, text)
		return strings.Split(strings.Split(text, "<Submission>")[1], "<")[0]
	}
	no := submit("r1",
		`<Row><Listing>1000</Listing><Shown>3</Shown></Row><Row><Listing>9</Listing><Shown>3</Shown></Row><Row><Listing>none</Listing>`+
			`<Shown>1</Shown></Row>`)
	require.Equal(t, no, submit("r1", `<Row><Listing>1000</Listing><Shown>3</Shown></Row>`), "the same reference is the same submission")
	_, text = call("GET", "/br/submissions/"+no, "")
	require.Contains(t, text, "in-works")
	require.Eventually(t, func() bool {
		_, text = call("GET", "/br/submissions/"+no, "")
		return strings.Contains(text, "finished")
	}, 5*time.Second, 10*time.Millisecond)
	require.Equal(t, 1, strings.Count(text, "<Taken>yes</Taken>"))
	require.Contains(t, text, "the listing is rejected")
	require.Equal(t, int64(3), m.Shows()["SKU-000"])
	status, _ := call("POST", "/br/submissions", `<Submission/>`)
	require.Equal(t, 422, status)
	status, _ = call("GET", "/br/submissions/none", "")
	require.Equal(t, 404, status)
}

func TestCounterpaneSpeaksTextAndForms(t *testing.T) {
	m := NewCounterpane(CounterpaneConfig{Company: "Us", Shop: "Mill", ShopNo: 3, User: "u", Password: "p", Goods: goods(3),
		Zone: time.FixedZone("", 3600)})
	base := serve(t, m)
	auth := map[string]string{"Authorization": "Basic " + base64.StdEncoding.EncodeToString([]byte("u:p"))}
	_, text, _ := ask(t, "GET", base+"/till/articles.csv?shop=3", "", auth)
	require.True(t, strings.HasPrefix(text, "Article;Own code;Name;Price;On hand;Bar code\n1000;SKU-000;Thing & 0;11.90;5;\n"), text)
	for range 60 {
		_, err := m.Sell(DeskSale{SKU: "SKU-001"})
		require.NoError(t, err)
	}
	_, text, _ = ask(t, "GET", base+"/till/sales?shop=3&after=1210", "", auth)
	var out struct {
		Sales []struct {
			SaleID int64 `json:"sale_id"`
			Closed string
			Rows   []struct{ Pieces, Price string }
		}
	}
	require.NoError(t, json.Unmarshal([]byte(text), &out))
	require.Len(t, out.Sales, 50)
	require.Equal(t, int64(1211), out.Sales[0].SaleID)
	require.Equal(t, "1.000", out.Sales[0].Rows[0].Pieces)
	at, err := time.ParseInLocation("02.01.2006 15:04:05", out.Sales[0].Closed, time.FixedZone("", 3600))
	require.NoError(t, err)
	require.Less(t, time.Since(at).Abs(), time.Minute, "times are the shop's")
	form := map[string]string{"Authorization": auth["Authorization"], "Content-Type": "application/x-www-form-urlencoded"}
	_, text, _ = ask(t, "POST", base+"/till/onhand?shop=3", "article=1002&pieces=9", form)
	require.Equal(t, "result=ok&article=1002", text)
	require.Equal(t, int64(9), m.Shows()["SKU-002"])
	_, _, _ = ask(t, "POST", base+"/till/onhand?shop=3&practice=1", "article=1002&pieces=1", form)
	require.Equal(t, int64(9), m.Shows()["SKU-002"], "practice changes nothing")
	require.Len(t, m.Trials(), 1)
	status, _, _ := ask(t, "POST", base+"/till/onhand?shop=3", "article=7&pieces=1", form)
	require.Equal(t, 422, status)
	status, text, _ = ask(t, "GET", base+"/till/shop?shop=4", "", auth)
	require.Equal(t, 403, status)
	require.Contains(t, text, "there is no shop 4")
}

func TestPostbookCorrects(t *testing.T) {
	m := NewPostbook(PostbookConfig{Holder: "Us", Contract: "C-1", Desk: "1", Token: "t"})
	base := serve(t, m)
	for query, says := range map[string]string{
		"street=Lane+4&code=41207&town=Alderby&land=XW":   `"verdict":"sure"`,
		"street=Lane+4&code=41208&town=Alderby&land=XW":   `postcode corrected to 41207`,
		"street=Lane+4&code=41207&town=Alderbi&land=XW":   `town corrected to Alderby`,
		"street=Lane&code=41207&town=Alderby":             `the house number is missing`,
		"street=Lane+4&code=97310&town=Farholm&land=XW":   `"far":true`,
		"street=Lane+4&code=00000&town=Nowhere":           `"verdict":"unknown"`,
		"street=Lane+4&code=41207&town=Alderby&land=XE":   `"verdict":"unknown"`,
		"street=L+4&code=41207&town=Alderby&company=Bees": `"premises":"business"`,
	} {
		_, text, _ := ask(t, "GET", base+"/pb/C-1/1/check?"+query, "", map[string]string{"Postbook-Token": "t"})
		require.Contains(t, text, says, query)
	}
	status, _, _ := ask(t, "GET", base+"/pb/C-1/1/", "", map[string]string{"Postbook-Token": "no"})
	require.Equal(t, 401, status)
	_, page, _ := ask(t, "GET", base+"/control", "", nil)
	require.Contains(t, page, "Alderby")
}

// TestControlPagesOfTheDesks sells, completes, cancels and breaks things by the pages that people use.
func TestControlPagesOfTheDesks(t *testing.T) {
	m := NewBramble(BrambleConfig{Key: "k", Secret: "s", Goods: goods(3)})
	base := serve(t, m)
	form := map[string]string{"Content-Type": "application/x-www-form-urlencoded"}
	for range 2 {
		status, _, _ := ask(t, "POST", base+"/control/sell", "count=1&kind=pending", form)
		require.Equal(t, 303, status)
	}
	_, page, _ := ask(t, "GET", base+"/control", "", nil)
	require.Contains(t, page, "BR-2201")
	require.Contains(t, page, "Thing &amp; 1")
	_, _, _ = ask(t, "POST", base+"/control/sales/BR-2201/complete", "", form)
	_, _, _ = ask(t, "POST", base+"/control/sales/BR-2202/cancel", "", form)
	for id, state := range map[string]string{"BR-2201": "open", "BR-2202": "cancelled"} {
		_, text, _ := ask(t, "GET", base+"/control/api/sales/"+id, "", nil)
		require.Contains(t, text, `"state":"`+state+`"`)
	}
	_, _, _ = ask(t, "POST", base+"/control/faults", "fault=500&count=1", form)
	status, _, _ := ask(t, "GET", base+"/br/whoami", "", nil)
	require.Equal(t, 500, status)
	status, _, _ = ask(t, "GET", base+"/br/whoami", "", nil)
	require.Equal(t, 401, status, "the fault used itself up")
	_, text, _ := ask(t, "GET", base+"/control/api/state", "", nil)
	require.Contains(t, text, `"sales":2`)
	status, _, _ = ask(t, "POST", base+"/control/api/sales", `{"sku":"NONE"}`, nil)
	require.Equal(t, 409, status)
	status, _, _ = ask(t, "POST", base+"/control/api/sales/none/fly", ``, nil)
	require.Equal(t, 409, status)
}
