package whole

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/client"
	"openrelay/internal/connector"
	"openrelay/internal/demo"
	"openrelay/internal/relay"
	"openrelay/internal/relay/engine"
	"openrelay/internal/standin"
	"openrelay/internal/store"
)

const crashToken = "relay_token_of_the_crash_test"

// service is the program as a process of its own.
type service struct {
	t      *testing.T
	binary string
	file   string
	addr   string
	cmd    *exec.Cmd
	log    *strings.Builder
}

func buildBinary(t *testing.T) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "openrelay")
	out, err := exec.Command("go", "build", "-o", path, "openrelay/cmd/openrelay").CombinedOutput()
	require.NoError(t, err, string(out))
	return path
}

func (s *service) start() {
	s.t.Helper()
	s.log = &strings.Builder{}
	s.cmd = exec.Command(s.binary, "serve", "-data", s.file, "-reach", "127.0.0.0/8", "-listen", s.addr, "-log", "error")
	s.cmd.Stderr = s.log
	require.NoError(s.t, s.cmd.Start())
	deadline := time.Now().Add(10 * time.Second)
	for {
		res, err := http.Get("http://" + s.addr + "/healthz")
		if err == nil {
			res.Body.Close()
			return
		}
		require.True(s.t, time.Now().Before(deadline), "the service does not start: %s", s.log)
		time.Sleep(10 * time.Millisecond)
	}
}

// kill ends the process at once, as a power cut would (SIGKILL).
func (s *service) kill() {
	s.cmd.Process.Kill()
	s.cmd.Wait()
}

func (s *service) verify() {
	s.t.Helper()
	out, err := exec.Command(s.binary, "verify", s.file).CombinedOutput()
	require.NoError(s.t, err, "%s", out)
}

// TestKilledAtRandom kills the service 20 times while sales, picks and shipments go on. Nothing may be
// lost, done twice or left undone.
func TestKilledAtRandom(t *testing.T) {
	t.Parallel()
	const kills = 20
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	rng := rand.New(rand.NewPCG(seed, 0))
	out, err := demo.OpenOutside(demo.OnFreePorts, 2000)
	require.NoError(t, err)
	t.Cleanup(out.Close)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s := &service{t: t, binary: buildBinary(t), file: filepath.Join(t.TempDir(), "company.relay"), addr: l.Addr().String()}
	require.NoError(t, l.Close())
	st, err := store.Open(t.Context(), s.file)
	require.NoError(t, err)
	r, err := relay.Open(t.Context(), st, engine.Options{Reach: connector.Loopback})
	require.NoError(t, err)
	require.NoError(t, demo.SetUp(t.Context(), r, out, crashToken, 2000))
	require.NoError(t, st.Close())
	out.CallRelay("http://" + s.addr)
	c := client.New("http://"+s.addr, crashToken)

	ctx, stop := context.WithCancel(t.Context())
	var work sync.WaitGroup
	sold := map[string]bool{}
	var mu sync.Mutex
	for i, shop := range []*standin.Hedgerow{out.Morrow, out.Skep} { // two shops sell
		sales := rand.New(rand.NewPCG(seed, uint64(i+1)))
		work.Add(1)
		go func() {
			defer work.Done()
			for ctx.Err() == nil {
				sale := shop.RandomSale(sales.IntN)
				for k := range sale.Lines {
					sale.Lines[k].SKU, sale.Lines[k].Qty = []string{"JAR-500-T12", "HIVE-TOOL", "BOOK-KITCHEN"}[k], 1
				}
				if sales.IntN(3) == 0 { // some buy often
					sale.Delivery = standin.Delivery{
						Name:     "Tove Farran",
						Street:   fmt.Sprintf("Quay Street %d", sales.IntN(3)+1),
						Postcode: "41360",
						Town:     "Harrowmere",
						Country:  "XW",
						Method:   "standard",
					}
				}
				if id, _, err := shop.Place(sale); err == nil {
					mu.Lock()
					sold[id] = true
					mu.Unlock()
				}
				time.Sleep(time.Duration(20+sales.IntN(40)) * time.Millisecond)
			}
		}()
	}
	for i := range 3 { // two packers ship what is ready order by order, the third in rounds
		work.Add(1)
		go func() {
			defer work.Done()
			packer := &demo.World{Client: c}
			for ctx.Err() == nil {
				list, _, err := c.Orders(ctx, "stage=ready,routed,picking,packed&limit=20")
				if err != nil || len(list) == 0 {
					time.Sleep(20 * time.Millisecond)
					continue
				}
				// Whatever fails is taken up again later, by whoever comes along.
				if i == 2 {
					if (&roundPacker{c}).work(ctx, roundOf(list)) != nil {
						time.Sleep(5 * time.Millisecond)
					}
					continue
				}
				_, _ = packer.ShipOne(ctx, list[len(list)-1].Number)
			}
		}()
	}
	busy := func() bool { // whether the packers get something done, on however slow a machine
		rounds, err := c.Rounds(ctx, "limit=1")
		return err == nil && len(rounds) > 0 && len(out.Plover.Sold()) > 10
	}
	worked := false
	for n := 0; n < kills || !worked && n < 4*kills; n++ {
		s.start()
		time.Sleep(time.Duration(100+rng.IntN(600)) * time.Millisecond * time.Duration(1+n/kills))
		worked = worked || n >= kills-2 && busy()
		s.kill()
		s.verify()
		if t.Failed() {
			t.Fatalf("after kill %d", n+1)
		}
	}
	s.start()
	stop()
	work.Wait()

	// Now everything settles: what was not pushed is read, what was not sent is sent.
	settled := func() (bool, error) {
		for _, code := range []string{"morrow", "skep"} {
			if _, err := c.RunNow(t.Context(), code, "orders in", ""); err != nil && client.StatusOf(err) != http.StatusConflict {
				return false, err
			}
		}
		conns, err := c.Connections(t.Context())
		for _, x := range conns {
			if x.Waiting > 0 {
				return false, nil
			}
		}
		return err == nil, err
	}
	byOutside := map[string]int{}
	require.Eventually(t, func() bool {
		done, err := settled()
		require.NoError(t, err)
		if !done {
			return false
		}
		clear(byOutside)
		query := "limit=200"
		for query != "" {
			list, next, err := c.Orders(t.Context(), query)
			require.NoError(t, err)
			for _, o := range list {
				byOutside[o.Connection+" "+o.ChannelNumber]++
			}
			query = next
		}
		return len(byOutside) >= len(sold)
	}, 60*time.Second, 200*time.Millisecond, "every sale becomes an order")

	// Each sale at the stores is exactly one order.
	require.Len(t, byOutside, len(sold))
	for number, n := range byOutside {
		require.Equal(t, 1, n, number)
	}
	// Each label was bought once, and is the label of one shipment.
	var bought struct {
		Labels []struct{ Reference, Item string }
	}
	getJSON(t, out.PloverURL+"/control/api/labels", &bought)
	shipped, inside := map[string]string{}, map[string]int{}
	shared := 0
	list, err := c.Parcels(t.Context(), "limit=200&state=shipped")
	require.NoError(t, err)
	for len(list) > 0 {
		for _, x := range list {
			require.NotContains(t, shipped, x.Tracking)
			shipped[x.Tracking] = x.OrderNumber
			if inside[x.Tracking] = 1 + len(x.Riders); len(x.Riders) > 0 {
				shared++
			}
		}
		list, err = c.Parcels(t.Context(), "limit=200&state=shipped&before="+list[len(list)-1].Number)
		require.NoError(t, err)
	}
	rounds, err := c.Rounds(t.Context(), "limit=200")
	require.NoError(t, err)
	t.Logf("%d sales, %d labels bought, %d rounds, %d cartons of several orders, %d kills", len(sold), len(bought.Labels), len(rounds),
		shared, kills)
	require.Greater(t, len(bought.Labels), 10, "the packers got something done")
	require.NotEmpty(t, rounds)
	require.Len(t, shipped, len(bought.Labels))
	refs := map[string]bool{}
	for _, lb := range bought.Labels {
		require.False(t, refs[lb.Reference])
		refs[lb.Reference] = true
		require.Contains(t, shipped, lb.Item)
	}
	// Every shipped order has its tracking number at its store, once.
	atStores := map[string]int{}
	for _, url := range []string{out.MorrowURL, out.SkepURL} {
		var all struct {
			Orders []struct {
				Name    string
				Parcels []struct{ Tracking string }
			}
		}
		getJSON(t, url+"/control/api/orders", &all)
		for _, o := range all.Orders {
			for _, p := range o.Parcels {
				atStores[p.Tracking]++
			}
		}
	}
	require.Len(t, atStores, len(shipped))
	for tracking := range shipped {
		require.Equal(t, inside[tracking], atStores[tracking], tracking)
	}
	// And both stores show what they should.
	for _, sku := range []string{"JAR-500-T12", "HIVE-TOOL", "BOOK-KITCHEN"} {
		v, err := c.Item(t.Context(), sku)
		require.NoError(t, err)
		for _, li := range v.Listings {
			shop := map[string]*standin.Hedgerow{"morrow": out.Morrow, "skep": out.Skep}[li.Connection]
			require.Equal(t, li.Allowed, shop.Shelf()[sku], "%s at %s", sku, li.Connection)
		}
	}
	s.kill()
	s.verify()
}

func getJSON(t *testing.T, url string, out any) {
	t.Helper()
	res, err := http.Get(url)
	require.NoError(t, err)
	defer res.Body.Close()
	require.Equal(t, http.StatusOK, res.StatusCode)
	require.NoError(t, json.NewDecoder(res.Body).Decode(out))
}

// TestStopsCleanly ends the service as an operator does, and expects a clean exit.
func TestStopsCleanly(t *testing.T) {
	t.Parallel()
	s := &service{t: t, binary: buildBinary(t), file: filepath.Join(t.TempDir(), "company.relay"), addr: freeAddr(t)}
	s.start()
	require.NoError(t, s.cmd.Process.Signal(os.Interrupt))
	require.NoError(t, s.cmd.Wait(), s.log.String())
	s.verify()
}

func freeAddr(t *testing.T) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().String()
}

// TestWalk does what `openrelay demo -walk` does.
func TestWalk(t *testing.T) {
	w := openWorld(t, false)
	var said strings.Builder
	if err := w.Walk(t.Context(), io.MultiWriter(&said)); err != nil {
		t.Fatal(errors.Join(err, fmt.Errorf("%s", said.String())))
	}
}
