// Command bench measures the service as a whole and prints each figure beside its baseline from the
// same run. The service is a process of its own with a temporary file; the outside is in this one.
package main

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"maps"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"text/tabwriter"
	"time"

	_ "modernc.org/sqlite"

	"openrelay/internal/client"
	"openrelay/internal/connector"
	"openrelay/internal/demo"
	"openrelay/internal/relay"
	"openrelay/internal/relay/engine"
	"openrelay/internal/standin"
	"openrelay/internal/store"
)

// figure is one line of the result.
type figure struct {
	Name     string   `json:"name"`
	Value    float64  `json:"value"`
	Unit     string   `json:"unit"`
	Baseline *float64 `json:"baseline"`
	Ratio    *float64 `json:"ratio"`
	Aim      string   `json:"aim"`
	Met      bool     `json:"met"`
}

type bench struct {
	small   bool // every part at its smallest size, to see that it runs
	ctx     context.Context
	dir     string
	out     *demo.Outside
	url     string
	client  *client.Client
	service *exec.Cmd
	figures []figure
}

// of is a size: what a measurement needs, or, where it is only to be seen that the part runs, little.
func (b *bench) of(full, little int) int {
	if b.small {
		return little
	}
	return full
}

const token = "relay_bench_token_of_the_benchmark"

func main() {
	binary := flag.String("binary", "bin/openrelay", "the program to measure")
	file := flag.String("out", "build/bench.json", "where the figures go")
	large := flag.Bool("large", false, "measure what needs a large file, and nothing else")
	only := flag.String("only", "",
		"only this: boards, intake, live, goods, orders, oversell, packers, walking, language, freight, labels, routing; "+
			"finding, keeping, file make large files")
	flag.Parse()
	most := 13 * time.Minute
	if *large {
		most = time.Hour
	}
	ctx, cancel := context.WithTimeout(context.Background(), most)
	defer cancel()
	b := &bench{ctx: ctx}
	run, err := b.part(*only, *large)
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(2)
	}
	if err := run(*binary); err != nil {
		b.close()
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
	b.close()
	b.print()
	text, err := json.MarshalIndent(b.figures, "", "  ")
	if err == nil {
		err = os.MkdirAll(filepath.Dir(*file), 0o755)
	}
	if err == nil {
		err = os.WriteFile(*file, append(text, '\n'), 0o644)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

// part is what is to be measured: all, all of a large file, or only what is named.
func (b *bench) part(only string, large bool) (func(binary string) error, error) {
	served := func(steps ...func(binary string) error) func(binary string) error {
		return func(binary string) error {
			err := errors.Join(b.begin(), b.start(binary))
			for _, step := range steps {
				err = errors.Join(err, step(binary))
			}
			return err
		}
	}
	plain := func(step func() error) func(string) error { return func(string) error { return step() } }
	parts := map[string]func(binary string) error{
		"":         b.run,
		"goods":    b.runGoods,
		"orders":   b.runOrders,
		"oversell": func(string) error { return errors.Join(b.begin(), b.oversell()) },
		"intake":   served(plain(b.takeIn)),
		"boards":   served(plain(b.boards)),
		"live":     served(plain(b.saleToOtherStore), plain(b.boards), b.eightStores, plain(b.empties)),
		"finding": func(string) error {
			return errors.Join(b.begin(), b.finding(1_000_000))
		},
		"keeping":  func(string) error { return errors.Join(b.begin(), b.keeping(1_000_000)) },
		"packers":  served(plain(b.packers), plain(b.typedNumbers)),
		"walking":  func(string) error { return b.walking() },
		"language": func(string) error { return errors.Join(b.begin(), b.language(), b.mapping(), b.files()) },
		"freight":  func(string) error { return b.freight() },
		"labels":   func(string) error { return errors.Join(b.begin(), b.labels()) },
		"routing":  served(plain(b.routing)),
		"cartons":  func(string) error { return b.cartons() },
		"file":     func(string) error { return errors.Join(b.begin(), b.largeFile(b.of(2<<30, 9<<20))) },
		"thinning": func(string) error { return errors.Join(b.begin(), b.thinning(1_000_000)) },
	}
	if large {
		return b.runLarge, nil
	}
	run := parts[only]
	if run == nil {
		names := slices.Sorted(maps.Keys(parts))
		return nil, fmt.Errorf("-only %q is not a part; there are: %s", only, strings.Join(names[1:], ", "))
	}
	return run, nil
}

// begin makes the folder in which everything is made.
func (b *bench) begin() (err error) {
	b.dir, err = os.MkdirTemp("", "openrelay-bench-")
	return err
}

func (b *bench) run(binary string) error {
	if err := b.begin(); err != nil {
		return err
	}
	if err := b.start(binary); err != nil {
		return err
	}
	for _, step := range []func() error{
		b.takeIn,
		b.mapping,
		b.language,
		b.files,
		b.backfill,
		b.saleToOtherStore,
		b.boards,
		func() error { return b.eightStores(binary) },
		b.empties,
		b.pages,
		b.memory,
		func() error { return b.idle(binary) },
		b.goods,
		b.cartons,
		b.freight,
		b.labels,
		b.walking,
		b.packers,
		b.typedNumbers,
		func() error { return b.orders(binary) },
		b.routing,
	} {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

// goods measures catalog and stock.
func (b *bench) goods() error {
	for _, step := range []func() error{
		b.matching, func() error { return b.offers(0) }, func() error {
			return b.ledger(b.of(2_000, 100), b.of(100_000, 1_000))
		}, b.delivery, b.oversell} {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

func (b *bench) runGoods(string) error {
	if err := b.begin(); err != nil {
		return err
	}
	return b.goods()
}

// runLarge measures what needs a large file.
func (b *bench) runLarge(string) error {
	if err := b.begin(); err != nil {
		return err
	}
	if err := b.finding(b.of(1_000_000, 5_000)); err != nil {
		return err
	}
	if err := b.offers(b.of(200_000, 500)); err != nil {
		return err
	}
	if err := b.keeping(b.of(1_000_000, 2_000)); err != nil {
		return err
	}
	if err := b.thinning(b.of(1_000_000, 2_000)); err != nil {
		return err
	}
	if err := b.largeFile(b.of(2<<30, 9<<20)); err != nil {
		return err
	}
	return b.ledger(b.of(200_000, 500), b.of(5_000_000, 5_000))
}

func (b *bench) add(name string, value float64, unit string, baseline float64, aim string, met bool) {
	f := figure{Name: name, Value: value, Unit: unit, Aim: aim, Met: met}
	if baseline != 0 {
		ratio := value / baseline
		f.Baseline, f.Ratio = &baseline, &ratio
	}
	b.figures = append(b.figures, f)
	fmt.Printf("%s: %.4g %s\n", name, value, unit)
}

func (b *bench) print() {
	t := tabwriter.NewWriter(os.Stdout, 0, 4, 2, ' ', 0)
	fmt.Fprintln(t, "\nFigure\tValue\tUnit\tBaseline\tRatio\tAim\tMet")
	for _, f := range b.figures {
		base, ratio := "", ""
		if f.Baseline != nil {
			base, ratio = fmt.Sprintf("%.4g", *f.Baseline), fmt.Sprintf("%.2g", *f.Ratio)
		}
		fmt.Fprintf(t, "%s\t%.4g\t%s\t%s\t%s\t%s\t%v\n", f.Name, f.Value, f.Unit, base, ratio, f.Aim, f.Met)
	}
	t.Flush()
}

// company makes a company file with what fill puts into it.
func (b *bench) company(name string, fill func(*relay.Relay) error) (string, error) {
	file := filepath.Join(b.dir, name)
	st, err := store.Open(b.ctx, file)
	if err != nil {
		return "", err
	}
	r, err := relay.Open(b.ctx, st, engine.Options{Reach: connector.Loopback})
	if err != nil {
		return "", err
	}
	if err := fill(r); err != nil {
		return "", err
	}
	r.Stop()
	return file, st.Close()
}

// serve starts the service on a company file, and returns its address.
func (b *bench) serve(binary, file string, complaints io.Writer) (*exec.Cmd, string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, "", err
	}
	addr := l.Addr().String()
	l.Close()
	service := exec.CommandContext(b.ctx, binary, "serve", "-data", file, "-listen", addr, "-log", "error", "-reach", "127.0.0.0/8")
	service.Stderr = complaints
	return service, addr, service.Start()
}

// start makes the company in a file and starts the service on it.
func (b *bench) start(binary string) error {
	var err error
	if b.out, err = demo.OpenOutside(demo.OnFreePorts, 5_000_000); err != nil {
		return err
	}
	file, err := b.company("company.relay", func(r *relay.Relay) error { return demo.SetUp(b.ctx, r, b.out, token, 10_000_000) })
	if err != nil {
		return err
	}
	var addr string
	if b.service, addr, err = b.serve(binary, file, os.Stderr); err != nil {
		return err
	}
	b.url = "http://" + addr
	b.client = client.New(b.url, token)
	return b.until(20*time.Second, "the listings", func() (bool, error) {
		v, err := b.client.Item(b.ctx, "JAR-500-T12")
		if err != nil {
			return false, nil // not yet listening
		}
		return len(v.Listings) == 2 && v.Listings[0].Told != nil && v.Listings[1].Told != nil, nil
	})
}

func (b *bench) until(most time.Duration, what string, ok func() (bool, error)) error {
	end := time.Now().Add(most)
	for time.Now().Before(end) {
		done, err := ok()
		if done || err != nil {
			return err
		}
		time.Sleep(3 * time.Millisecond)
	}
	return fmt.Errorf("waited %s for %s in vain", most, what)
}

func (b *bench) close() {
	if b.service != nil && b.service.Process != nil {
		b.service.Process.Signal(os.Interrupt)
		b.service.Wait()
	}
	if b.out != nil {
		b.out.Close()
	}
	os.RemoveAll(b.dir)
}

// lines are the SKUs of the generated orders: three of the goods both stores sell.
var skus = []string{"JAR-250-T24", "JAR-500-T12", "JAR-1000-T6", "JAR-HEX-T12", "HIVE-TOOL", "SMOKER-M", "BRUSH-HAIR", "BOOK-FIRST-YEAR",
	"BOOK-KITCHEN", "CALENDAR-WALL", "WAX-1KG", "CANDLE-PAIR",
	"HONEY-LIME-500", "HONEY-HEATH-500", "VEIL-ROUND", "SUIT-S-WHITE", "SUIT-M-WHITE", "SUIT-L-WHITE", "SUIT-M-SAND", "JACKET-M"}

// pushBody makes the events of n orders with three lines each, as the store would send them.
func pushBody(first, n int) []byte {
	var s strings.Builder
	s.WriteString(`{"events":[`)
	now := time.Now().UTC().Format("2006-01-02T15:04:05.000000Z07:00")
	for i := first; i < first+n; i++ {
		if i > first {
			s.WriteByte(',')
		}
		fmt.Fprintf(&s,
			`{"topic":"order","order":{"id":"b-%d","name":"BN-%d","state":"confirmed","revision":1,"placed_at":%q,"changed_at":%q,`+
				`"currency":"EUR","tax_included":true,`+
				`"customer":{"name":"Ilka Fenn","email":"ilka.fenn@example.test"},"delivery":{"name":"Ilka Fenn","company":"",`+
				`"street":"Heron Lane %d","extra":"","postcode":"41360","town":"Harrowmere","country":"XW","phone":"",`+
				`"method":"standard"},"lines":[`,
			i, i, now, now, i%90)
		for k := range 3 {
			if k > 0 {
				s.WriteByte(',')
			}
			fmt.Fprintf(&s,
				`{"line_id":"L%d","sku":%q,"title":"Something for the hive","quantity":1,"price":"11.90","discount":"0.00",`+
					`"tax":"1.98","total":"11.90"}`, k+1, skus[(i*7+k*3)%len(skus)])
		}
		s.WriteString(
			`],"shipping_price":"4.90","discount":"0.00","tax":"6.77","total":"40.60","payment":{"method":"card","paid":true},` +
				`"note":"","admin_url":"","parcels":[]}}`)
	}
	s.WriteString(`]}`)
	return []byte(s.String())
}

func (b *bench) push(body []byte) error { return b.pushTo("morrow", demo.MorrowPushSecret, body) }

// pushAll pushes orders, 100 at a time over two lines as a busy store does, and waits until the last of
// each line is an order of ours.
func (b *bench) pushAll(first, n int) (time.Duration, error) {
	bodies := make([][]byte, 0, n/100)
	for i := first; i < first+n; i += 100 {
		bodies = append(bodies, pushBody(i, 100))
	}
	begin := time.Now()
	next := make(chan []byte)
	failed := make(chan error, 2)
	for range 2 {
		go func() {
			var err error
			for body := range next {
				if err == nil {
					err = b.push(body)
				}
			}
			failed <- err
		}()
	}
	for _, body := range bodies {
		next <- body
	}
	close(next)
	if err := errors.Join(<-failed, <-failed); err != nil {
		return 0, err
	}
	for _, last := range []int{first + n - 101, first + n - 1} {
		if last < first {
			continue
		}
		if err := b.until(5*time.Minute, "the last order", func() (bool, error) {
			_, err := b.client.Order(b.ctx, fmt.Sprintf("BN-%d", last))
			if client.StatusOf(err) == 404 {
				return false, nil
			}
			return err == nil, err
		}); err != nil {
			return 0, err
		}
	}
	return time.Since(begin), nil
}

// takeIn compares the intake with a plain loop. The two take turns, because the machine's speed drifts;
// the medians count.
func (b *bench) takeIn() error {
	if _, err := b.pushAll(0, b.of(2000, 100)); err != nil { // warm
		return err
	}
	n, turns := b.of(10_000, 200), b.of(3, 1)
	var rates, plains []float64
	for turn := range turns {
		plain, err := plainLoop(b.ctx, filepath.Join(b.dir, fmt.Sprintf("plain-%d.relay", turn)), n)
		if err != nil {
			return fmt.Errorf("plain loop: %w", err)
		}
		took, err := b.pushAll(2000+turn*n, n)
		if err != nil {
			return err
		}
		if err := b.inStep(); err != nil {
			return err
		}
		plains, rates = append(plains, plain), append(rates, float64(n)/took.Seconds())
	}
	slices.Sort(plains)
	slices.Sort(rates)
	rate, plain := rates[turns/2], plains[turns/2]
	b.add("orders taken in from pushes, 100 at a time", rate, "orders/s", plain, "ratio 0.45 or better", rate/plain >= 0.45)
	return nil
}

// saleToOtherStore sells 50 times a second at one store and sees when the other shows less.
func (b *bench) saleToOtherStore() error {
	b.out.CallRelay(b.url)
	perSecond, seconds := 50, b.of(20, 1)
	watch := b.watchShelf()
	defer watch.end()
	// The other store is in step before we begin.
	if err := b.inStep(); err != nil {
		return err
	}
	shelf := b.out.Skep.Shelf()
	tick := time.NewTicker(time.Second / time.Duration(perSecond))
	defer tick.Stop()
	for i := range perSecond * seconds {
		<-tick.C
		sku := skus[i%len(skus)]
		shelf[sku]--
		watch.expect(sku, shelf[sku])
		if _, _, err := b.out.Morrow.Place(standin.Sale{Customer: "Joss Oster", Email: "joss.oster@example.test", Shipping: 490,
			Lines: []standin.SaleLine{{SKU: sku, Qty: 1}},
			Delivery: standin.Delivery{Name: "Joss Oster", Street: "Quay Street 2", Postcode: "42811", Town: "Stonequay", Country: "XW",
				Method: "standard"}}); err != nil {
			return err
		}
	}
	if err := b.until(20*time.Second, "the last sale to reach the other store", func() (bool, error) {
		return watch.left() == 0, nil
	}); err != nil {
		return err
	}
	watch.end()
	took := watch.took
	slices.Sort(took)
	median, late := took[len(took)/2], took[len(took)*99/100]
	b.add("sale at one store to lower quantity at the other, 50 sales/s, median", median, "s", 0, "0.03 s", median <= 0.03)
	b.add("sale at one store to lower quantity at the other, 50 sales/s, 99th percentile", late, "s", 0, "0.06 s", late <= 0.06)
	return nil
}

// shelfWatch looks at the other store's shelf all the time, and notes after how long it shows what is expected.
type shelfWatch struct {
	mu      sync.Mutex
	waiting []shelfWait
	took    []float64 // s
	stop    chan struct{}
	ended   sync.WaitGroup
	once    sync.Once
}

type shelfWait struct {
	sku  string
	want int64
	at   time.Time
}

func (b *bench) watchShelf() *shelfWatch {
	w := &shelfWatch{stop: make(chan struct{})}
	w.ended.Go(func() {
		for {
			select {
			case <-w.stop:
				return
			default:
			}
			w.look(time.Now(), b.out.Skep.Shelf())
			time.Sleep(time.Millisecond)
		}
	})
	return w
}

func (w *shelfWatch) look(now time.Time, shelf map[string]int64) {
	w.mu.Lock()
	defer w.mu.Unlock()
	kept := w.waiting[:0]
	for _, x := range w.waiting {
		if shelf[x.sku] <= x.want {
			w.took = append(w.took, now.Sub(x.at).Seconds())
		} else {
			kept = append(kept, x)
		}
	}
	w.waiting = kept
}

// expect notes that the shelf is to show so many from now on.
func (w *shelfWatch) expect(sku string, want int64) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.waiting = append(w.waiting, shelfWait{sku, want, time.Now()})
}

// left is how many expectations are not met yet.
func (w *shelfWatch) left() int {
	w.mu.Lock()
	defer w.mu.Unlock()
	return len(w.waiting)
}

func (w *shelfWatch) end() {
	w.once.Do(func() { close(w.stop) })
	w.ended.Wait()
}

// inStep waits until the other store shows what it should.
func (b *bench) inStep() error {
	return b.until(time.Minute, "the stores to be in step", func() (bool, error) {
		c, err := b.client.Connection(b.ctx, "skep")
		return err == nil && c.Waiting == 0, err
	})
}

// pages compares the first and the 2,000th page of orders with 100,000 stored.
func (b *bench) pages() error {
	list, _, err := b.client.Orders(b.ctx, "limit=1")
	if err != nil {
		return err
	}
	have, err := strconv.Atoi(strings.TrimPrefix(list[0].Number, "R"))
	if err != nil {
		return err
	}
	have -= 10000
	stored, measured := b.of(100_000, 5_000), b.of(200, 5)
	missing := (stored - have + 99) / 100 * 100
	if _, err := b.pushAll(1_000_000, missing); err != nil {
		return err
	}
	if err := b.inStep(); err != nil {
		return err
	}
	// Keyset paging: the last page of 50 begins below all but the oldest 50 orders.
	far := "limit=50&before=" + strconv.Itoa(have+missing-(stored/50-1)*50+1)
	measure := func(query string) (float64, error) {
		var took []float64
		for range measured {
			begin := time.Now()
			list, _, err := b.client.Orders(b.ctx, query)
			if err != nil {
				return 0, err
			}
			if len(list) != 50 {
				return 0, fmt.Errorf("%s: %d orders on the page", query, len(list))
			}
			took = append(took, time.Since(begin).Seconds()*1000)
		}
		slices.Sort(took)
		return took[len(took)/2], nil
	}
	first, err := measure("limit=50")
	if err != nil {
		return err
	}
	last, err := measure(far)
	if err != nil {
		return err
	}
	b.add("first page of orders, 100,000 stored, median", first, "ms", 0, "under 10 ms", first < 10)
	b.add("2,000th page of orders, 100,000 stored, median", last, "ms", first, "under 10 ms, within 1.5 of the first", last < 10 &&
		max(last/first, first/last) <= 1.5)
	return nil
}

func (b *bench) memory() error {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", b.service.Process.Pid))
	if err != nil {
		return err
	}
	for _, line := range strings.Split(string(text), "\n") {
		var kb float64
		if _, err := fmt.Sscanf(line, "VmRSS: %f kB", &kb); err == nil {
			b.add("memory of the service after all that", kb/1024, "MB", 0, "under 200 MB", kb/1024 < 200)
		}
		if _, err := fmt.Sscanf(line, "VmHWM: %f kB", &kb); err == nil {
			b.add("memory of the service at its peak", kb/1024, "MB", 0, "", true)
		}
	}
	return nil
}

func dropTriggers(ctx context.Context, db *sql.DB) error {
	rows, err := db.QueryContext(ctx, "SELECT name FROM sqlite_master WHERE type='trigger'")
	if err != nil {
		return err
	}
	var names []string
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return err
		}
		names = append(names, name)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return err
	}
	for _, name := range names {
		if _, err := db.ExecContext(ctx, "DROP TRIGGER "+name); err != nil {
			return err
		}
	}
	return nil
}

// plainLoop inserts the same orders, lines and stock updates with nothing else: the same rows into the
// same tables on the same driver with the same durability, one statement a row, 100 orders in a
// transaction. It returns orders per second.
func plainLoop(ctx context.Context, file string, n int) (float64, error) {
	st, err := store.Open(ctx, file) // makes the tables
	if err != nil {
		return 0, err
	}
	if err := st.Close(); err != nil {
		return 0, err
	}
	db, err := sql.Open("sqlite",
		"file:"+file+"?_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=cache_size(-32000)&_pragma=wal_autocheckpoint(10000)")
	if err != nil {
		return 0, err
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	if err := dropTriggers(ctx, db); err != nil { // they count for pages; the loop does nothing but insert
		return 0, err
	}
	for i := range skus {
		if _, err := db.ExecContext(ctx, "INSERT INTO level (item_id, location_id, on_hand) VALUES (?, 1, 10000000)", i+1); err != nil {
			return 0, err
		}
	}
	begin := time.Now()
	for i := 0; i < n; i += 100 {
		if err := plainHundred(ctx, db, i); err != nil {
			return 0, err
		}
	}
	return float64(n) / time.Since(begin).Seconds(), nil
}

// plainRecord is what the plain loop stores with each order.
const plainRecord = `{"number":"BN-2000","state":"confirmed","status":"open","placed_at":"2026-11-23T07:30:00Z",` +
	`"changed_at":"2026-11-23T07:30:00Z","currency":"EUR","prices_include_tax":true,"buyer_name":"Ilka Fenn",` +
	`"buyer_email":"ilka.fenn@example.test","ship_to":{"name":"Ilka Fenn","street":"Heron Lane 4","postcode":"41360",` +
	`"town":"Harrowmere","country":"XW","email":"ilka.fenn@example.test"},"lines":[{"id":"L1","sku":"JAR-250-T24",` +
	`"title":"Something for the hive","quantity":1,"unit_price":1190,"discount":0,"tax":198,"total":1190},{"id":"L2",` +
	`"sku":"JAR-HEX-T12","title":"Something for the hive","quantity":1,"unit_price":1190,"discount":0,"tax":198,` +
	`"total":1190},{"id":"L3","sku":"BRUSH-HAIR","title":"Something for the hive","quantity":1,"unit_price":1190,"discount":0,` +
	`"tax":198,"total":1190}],"shipping":490,"discount":0,"tax":677,"total":4060,"payment":"card","paid":true,` +
	`"requested_service":"standard"}`

// plainHundred inserts a hundred orders of three lines and lowers what is left, in one commit.
func plainHundred(ctx context.Context, db *sql.DB, i int) error {
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	order, err1 := tx.PrepareContext(ctx, `INSERT INTO orders (id, number, connection_id, outside_id, version,
		channel_number, channel_state, stage, buyer, currency, total, units, placed_at, received_at, via, record)
		VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)`)
	line, err2 := tx.PrepareContext(ctx, `INSERT INTO order_line (id, order_id, position, outside_id, sku, title, item_id,
		quantity, cancelled, allocated, picked, packed, shipped, unit_price, discount, tax, total)
		VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)`)
	level, err3 := tx.PrepareContext(ctx, `UPDATE level SET allocated = allocated + ? WHERE item_id = ? AND location_id = 1`)
	if err := errors.Join(err1, err2, err3); err != nil {
		return err
	}
	for k := i; k < i+100; k++ {
		now := time.Now().UnixMicro()
		if _, err := order.ExecContext(ctx, k+1, fmt.Sprintf("R%d", k), 1, fmt.Sprintf("b-%d", k), 1, fmt.Sprintf("BN-%d", k),
			"confirmed", "ready", "Ilka Fenn", "EUR", 4060, 3, now, now, "push", plainRecord); err != nil {
			return err
		}
		for j := range 3 {
			at := (k*7 + j*3) % len(skus)
			if _, err := line.ExecContext(ctx, k*3+j+1, k+1, j+1, fmt.Sprintf("L%d", j+1), skus[at], "Something for the hive", at+1,
				1, 0, 1, 0, 0, 0, 1190, 0, 198, 1190); err != nil {
				return err
			}
			if _, err := level.ExecContext(ctx, 1, at+1); err != nil {
				return err
			}
		}
	}
	return tx.Commit()
}
