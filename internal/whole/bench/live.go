package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"openrelay/internal/connector"
	"openrelay/internal/core/catalog"
	"openrelay/internal/relay"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/listing"
	"openrelay/internal/setup"
	"openrelay/internal/standin"
	"openrelay/internal/store"
)

// boards measures what boards that are open cost the service beside 50 sales a second: each listens to what changes and
// asks for the board again, at most four times a second, as the console does.
func (b *bench) boards() error {
	const boards, perSecond = 20, 50
	seconds := b.of(15, 1)
	b.out.CallRelay(b.url)
	if err := b.inStep(); err != nil {
		return err
	}
	alone, err := b.costOfSales(perSecond, seconds)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(b.ctx)
	defer cancel()
	var asked atomic.Int64
	var wg sync.WaitGroup
	errs := make([]error, boards)
	for i := range boards {
		wg.Add(1)
		go func() { defer wg.Done(); errs[i] = b.watchBoard(ctx, &asked) }()
	}
	time.Sleep(500 * time.Millisecond) // all have opened their page
	beside, err := b.costOfSales(perSecond, seconds)
	cancel()
	wg.Wait()
	if err := errors.Join(append(errs, err)...); err != nil {
		return err
	}
	if asked.Load() < 2*boards {
		return errors.New("the boards were not told of the sales")
	}
	cost := max(0, beside-alone)
	fmt.Printf("boards: the sales alone take %.1f %% of a core; %d boards asked %d times\n", alone, boards, asked.Load())
	b.add("20 boards open beside 50 sales a second, processor time they cost", cost, "% of a core", alone, "10 % of a core", cost <= 10)
	return nil
}

// costOfSales sells at a store for a while, and returns the processor time of the service in percent of a core.
func (b *bench) costOfSales(perSecond, seconds int) (float64, error) {
	pid := b.service.Process.Pid
	before, err := cpuTime(pid)
	if err != nil {
		return 0, err
	}
	begin := time.Now()
	tick := time.NewTicker(time.Second / time.Duration(perSecond))
	defer tick.Stop()
	for i := range perSecond * seconds {
		<-tick.C
		if _, _, err := b.out.Morrow.Place(oneOf(skus[i%len(skus)])); err != nil {
			return 0, err
		}
	}
	used, err := cpuTime(pid)
	return (used - before).Seconds() / time.Since(begin).Seconds() * 100, err
}

// oneOf is a sale of one unit.
func oneOf(sku string) standin.Sale {
	return standin.Sale{Customer: "Joss Oster", Email: "joss.oster@example.test", Shipping: 490,
		Lines: []standin.SaleLine{{SKU: sku, Qty: 1}},
		Delivery: standin.Delivery{Name: "Joss Oster", Street: "Quay Street 2", Postcode: "42811", Town: "Stonequay", Country: "XW",
			Method: "standard"}}
}

// watchBoard does what the page of the board does, until the context ends.
func (b *bench) watchBoard(ctx context.Context, asked *atomic.Int64) error {
	ask := func() error {
		asked.Add(1)
		_, err := b.client.Board(ctx)
		return err
	}
	if err := ask(); err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, b.url+"/api/v1/events", nil)
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+token)
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	touched := make(chan struct{}, 1)
	go func() {
		for {
			select {
			case <-ctx.Done():
				return
			case <-touched:
				time.Sleep(250 * time.Millisecond)
				if ask() != nil {
					return
				}
			}
		}
	}()
	for lines := bufio.NewScanner(res.Body); lines.Scan(); {
		for _, kind := range []string{`"order"`, `"feed"`, `"connection"`, `"exception"`} {
			if strings.Contains(lines.Text(), kind) {
				select {
				case touched <- struct{}{}:
				default:
				}
				break
			}
		}
	}
	return nil
}

// eightStores sells at eight stores in turn, and measures how long it takes until the next one shows less.
func (b *bench) eightStores(binary string) error {
	const stores, perSecond = 8, 200
	shops := make([]*standin.Hedgerow, stores)
	text := "setup: 1\nlocations:\n  - { code: alder, name: Alder Yard }\nconnections:\n"
	access := map[string]map[string]string{}
	goods := make([]standin.ShopItem, 40)
	for i := range goods {
		goods[i] = standin.ShopItem{ID: fmt.Sprint(i + 1), SKU: fmt.Sprintf("E-%02d", i), Title: fmt.Sprintf("Thing %d", i), Price: 1000,
			Quantity: 1}
	}
	for i := range shops {
		cfg := standin.ShopConfig{Name: fmt.Sprintf("Store %d", i), Number: fmt.Sprintf("E-%d", i), Country: "XW", Currency: "EUR",
			OrderPrefix: fmt.Sprintf("E%d", i), Token: fmt.Sprintf("token-%d", i), PushSecret: fmt.Sprintf("secret-%d", i), Items: goods}
		shops[i] = standin.NewHedgerow(cfg)
		defer shops[i].Stop()
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return err
		}
		srv := &http.Server{Handler: shops[i], ReadHeaderTimeout: 10 * time.Second}
		defer srv.Close()
		go srv.Serve(l)
		shops[i].SetBase("http://" + l.Addr().String())
		code := fmt.Sprintf("store-%d", i)
		text += fmt.Sprintf("  - code: %s\n    connector: hedgerow\n    name: Store %d\n    address: http://%s\n"+
			"    settings: { offer: { sources: [alder] } }\n    previewed: true\n"+
			"    feeds: { orders in: on, listings in: on, stock in: off, dispatch out: off, stock out: on }\n", code, i, l.Addr())
		access[code] = map[string]string{"token": cfg.Token, "push_secret": cfg.PushSecret}
	}
	file, err := b.company("eight.relay", func(r *relay.Relay) error { return fillEight(b.ctx, r, text, access, goods) })
	if err != nil {
		return err
	}
	service, addr, err := b.serve(binary, file, os.Stderr)
	if err != nil {
		return err
	}
	defer func() { _ = service.Process.Kill(); _ = service.Wait() }()
	for i, shop := range shops {
		shop.SetHook(fmt.Sprintf("http://%s/in/store-%d", addr, i))
	}
	if err := b.until(60*time.Second, "all eight stores to show the same", func() (bool, error) {
		for _, shop := range shops {
			if shop.Shelf()["E-39"] != 500_000 {
				return false, nil
			}
		}
		return true, nil
	}); err != nil {
		return err
	}
	took, err := b.sellAtAll(shops, goods, perSecond, b.of(15, 1))
	if err != nil {
		return err
	}
	slices.Sort(took)
	b.add("200 sales a second at eight stores: until the next store shows less, median", took[len(took)/2], "s", 0, "", true)
	b.add("  the same, 99th percentile", took[len(took)*99/100], "s", 0, "", true)
	return nil
}

func fillEight(ctx context.Context, r *relay.Relay, text string, access map[string]map[string]string, goods []standin.ShopItem) error {
	s, err := setup.Parse([]byte(text))
	if err != nil {
		return err
	}
	ground := s
	ground.Connections = nil
	if _, err := r.ApplySetup(ctx, ground, nil, "bench"); err != nil {
		return err
	}
	opening := make([]listing.Opening, len(goods))
	for i, g := range goods {
		opening[i] = listing.Opening{Item: catalog.Item{SKU: g.SKU, Name: g.Title, Price: g.Price, Currency: "EUR"},
			Counts: map[int64]int64{r.PlaceID("alder"): 500_000}}
	}
	if err := r.AddItems(ctx, opening, "bench"); err != nil {
		return err
	}
	_, err = r.ApplySetup(ctx, s, access, "bench")
	return err
}

// sellAtAll sells at all stores in turn, and returns how long each sale took to be seen at the next store, in seconds.
func (b *bench) sellAtAll(shops []*standin.Hedgerow, goods []standin.ShopItem, perSecond, seconds int) ([]float64, error) {
	type watch struct {
		at   int // the store that is to show it
		sku  string
		want int64
		sold time.Time
	}
	var mu sync.Mutex
	var waiting []watch
	var took []float64
	stop := make(chan struct{})
	var wg sync.WaitGroup
	wg.Add(1)
	go func() {
		defer wg.Done()
		for {
			select {
			case <-stop:
				return
			case <-time.After(time.Millisecond):
			}
			shelves := make([]map[string]int64, len(shops))
			for i, shop := range shops {
				shelves[i] = shop.Shelf()
			}
			now := time.Now()
			mu.Lock()
			waiting = slices.DeleteFunc(waiting, func(w watch) bool {
				seen := shelves[w.at][w.sku] <= w.want
				if seen {
					took = append(took, now.Sub(w.sold).Seconds())
				}
				return seen
			})
			mu.Unlock()
		}
	}()
	left := shops[0].Shelf()
	tick := time.NewTicker(time.Second / time.Duration(perSecond))
	defer tick.Stop()
	for i := range perSecond * seconds {
		<-tick.C
		sku := goods[i%len(goods)].SKU
		left[sku]--
		mu.Lock()
		waiting = append(waiting, watch{(i + 1) % len(shops), sku, left[sku], time.Now()})
		mu.Unlock()
		if _, _, err := shops[i%len(shops)].Place(oneOf(sku)); err != nil {
			return nil, err
		}
	}
	err := b.until(30*time.Second, "the last sale to be seen everywhere", func() (bool, error) {
		mu.Lock()
		defer mu.Unlock()
		return len(waiting) == 0, nil
	})
	close(stop)
	wg.Wait()
	return took, err
}

// empties opens empty companies in one process, each with its loops at work, and measures what each takes beyond the first.
func (b *bench) empties() error {
	n := b.of(40, 3)
	open := func(i int) (*relay.Relay, *store.Store, error) {
		st, err := store.Open(b.ctx, filepath.Join(b.dir, fmt.Sprintf("empty-%d.relay", i)))
		if err != nil {
			return nil, nil, err
		}
		r, err := relay.Open(b.ctx, st, engine.Options{Reach: connector.Loopback})
		if err == nil {
			err = r.Start()
		}
		return r, st, err
	}
	for i := range n + 1 { // the files are made before: what is measured is the opening
		_, st, err := open(i)
		if err != nil {
			return err
		}
		if err := st.Close(); err != nil {
			return err
		}
	}
	var opened []*relay.Relay
	var stores []*store.Store
	defer func() {
		for i, r := range opened {
			r.Stop()
			_ = stores[i].Close()
		}
	}()
	var first float64
	took := make([]float64, 0, n)
	for i := range n + 1 {
		begin := time.Now()
		r, st, err := open(i)
		if err != nil {
			return err
		}
		opened, stores = append(opened, r), append(stores, st)
		if i == 0 {
			time.Sleep(200 * time.Millisecond)
			if first, err = resident(); err != nil {
				return err
			}
			continue
		}
		took = append(took, time.Since(begin).Seconds()*1000)
	}
	rest := time.Duration(b.of(25, 1)) * time.Second // until readers that nobody needs are closed; a trial run does not wait for it
	time.Sleep(rest)
	all, err := resident()
	if err != nil {
		return err
	}
	each := max(0, all-first) / float64(n)
	slices.Sort(took)
	b.add("memory of an empty company at work beyond the first", each, "MB", 0, "2 MB", each <= 2)
	b.add("opening an empty company, median", took[len(took)/2], "ms", 0, "100 ms", took[len(took)/2] <= 100)
	return nil
}

// resident is the memory of this process that stands in the machine, in MB, after what nobody needs was given back.
func resident() (float64, error) {
	runtime.GC()
	debug.FreeOSMemory()
	text, err := os.ReadFile("/proc/self/status")
	if err != nil {
		return 0, err
	}
	for _, line := range strings.Split(string(text), "\n") {
		var kb float64
		if _, err := fmt.Sscanf(line, "VmRSS: %f kB", &kb); err == nil {
			return kb / 1024, nil
		}
	}
	return 0, errors.New("the machine does not tell the memory of a process")
}
