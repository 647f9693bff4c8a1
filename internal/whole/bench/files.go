package main

import (
	"bufio"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"time"

	"openrelay/internal/connector"
	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay"
	"openrelay/internal/relay/engine"
	"openrelay/internal/setup"
	"openrelay/internal/sshserver"
	"openrelay/internal/store"
)

// school sends its orders, and changes of them, as EDIFACT files by SFTP. It renames a file when it is whole.
const school = `connector: school
title: School
side: channel
access:
  way: files
  fields: [ { name: user, label: Name }, { name: key, label: Private key, secret: true, lines: true }, { name: host_key, label: Host key } ]
  sftp: { user: secret.user, key: secret.key, host_key: secret.host_key }
format: { answer: edifact }
feeds:
  orders in:
    id: edi(item, "BGM", "2")
    version: number(edi(item, "BGM", "3"))
    read: { every: 500ms, files: { folder: out, name: "*.edi", settled: 0s }, items: ORDERS }
    map:
      number: edi(item, "BGM", "2")
      state: edi(item, "BGM", "1")
      status: 'edi(item, "BGM", "1") == "220" ? "open" : "cancelled"'
      currency: '"EUR"'
      placed_at: moment(edi(item, "DTM+137", "1.2"), "yyyyMMddHHmm", "UTC")
      changed_at: moment(edi(item, "DTM+137", "1.2"), "yyyyMMddHHmm", "UTC")
      lines:
        each: groups(item, "LIN", "UNS")
        as: line
        map: { id: 'edi(line, "LIN", "1")', sku: 'edi(line, "LIN", "3")', quantity: 'number(edi(line, "QTY+21", "1.2"))' }
`

// files measures how long after a file lies whole at an SFTP server the order is changed that it speaks of.
func (b *bench) files() (err error) {
	dir, err := os.MkdirTemp(b.dir, "sftp-")
	if err != nil {
		return err
	}
	server, err := sshserver.New(dir)
	if err != nil {
		return err
	}
	if err := server.Start(); err != nil {
		return err
	}
	defer func() { err = errors.Join(err, server.Stop()) }()
	out := filepath.Join(dir, "out")
	if err := os.Mkdir(out, 0o755); err != nil {
		return err
	}
	st, err := store.Open(b.ctx, filepath.Join(b.dir, "school.relay"))
	if err != nil {
		return err
	}
	defer st.Close()
	r, err := relay.Open(b.ctx, st, engine.Options{Reach: connector.Loopback, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return err
	}
	if err := b.joinSchool(r, server); err != nil {
		return err
	}
	if err := r.Start(); err != nil {
		return err
	}
	defer r.Stop()
	var took []float64
	for n := range b.of(20, 2) {
		for _, kind := range []string{"220", "230"} { // it is bought, and called off
			one, err := b.fileToOrder(r, out, n, kind)
			if err != nil {
				return err
			}
			took = append(took, one)
		}
	}
	slices.Sort(took)
	median, worst := took[len(took)/2], took[len(took)-1]
	b.add("file whole at an SFTP server that is read every 0.5 s → order changed, median", median, "ms", 0, "1 s or less", median <= 1000)
	b.add("the slowest", worst, "ms", 0, "1 s or less", worst <= 1000)
	return nil
}

// joinSchool joins the school at a server.
func (b *bench) joinSchool(r *relay.Relay, server *sshserver.Server) error {
	secrets := map[string]map[string]string{"school": {"user": server.User, "key": server.Key, "host_key": server.Fingerprint}}
	_, err := r.ApplySetup(b.ctx, setup.Setup{Version: 1, Company: "Morrow Hive Supply", Connectors: []string{school},
		Locations: []setup.Location{{Code: "alder", Name: "Alder Yard"}}, Connections: []setup.Connection{{Code: "school",
			Connector: "school", Name: "School", Address: fmt.Sprintf("sftp://127.0.0.1:%d%s", server.Port, server.Dir),
			Settings: map[string]any{"offer": map[string]any{"sources": []any{"alder"}}},
			Feeds:    map[message.Feed]setup.Feed{message.OrdersIn: {On: true}}, Previewed: true}}}, secrets, "bench")
	return err
}

// fileToOrder lays a file down, and returns after how many milliseconds its order is as it says.
func (b *bench) fileToOrder(r *relay.Relay, out string, n int, kind string) (float64, error) {
	name := fmt.Sprintf("B-%d", n)
	text := fmt.Sprintf(
		"UNB+UNOC:3+SCHOOL+RELAY+261123:0727+%[1]d%[2]s'UNH+1+ORDERS:D:96A:UN'BGM+%[2]s+%[3]s+%[2]s'DTM+137:202611230727:203'"+
			"LIN+1++JAR'QTY+21:2'UNS+S'UNT+7+1'UNZ+1+%[1]d%[2]s'",
		n,
		kind,
		name,
	)
	part := filepath.Join(out, name+kind+".part")
	if err := os.WriteFile(part, []byte(text), 0o644); err != nil {
		return 0, err
	}
	time.Sleep(time.Duration(rand.Int64N(int64(500 * time.Millisecond)))) // whenever the folder was read last
	begin := time.Now()
	if err := os.Rename(part, filepath.Join(out, name+kind+".edi")); err != nil {
		return 0, err
	}
	for time.Since(begin) < 20*time.Second {
		o, err := r.Store.OrderByNumber(b.ctx, name)
		if err == nil && (kind == "220" || o.Stage() == order.Cancelled) {
			return milliseconds(time.Since(begin)), nil
		}
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return 0, err
		}
		time.Sleep(2 * time.Millisecond)
	}
	return 0, fmt.Errorf("the order %s did not come", name)
}

// levels is a folder of files with quantities.
const levels = `connector: levels
title: Levels
side: fulfiller
access: { way: files }
feeds:
  stock in:
    id: item.sku
    read: { files: { folder: out, name: "*.csv", settled: 0s }, format: { answer: csv } }
    map: { sku: item.sku, quantity: number(item.n) }
`

// largeFile reads a file that is larger than what is held at once, and sees how much memory is held meanwhile.
func (b *bench) largeFile(bytes int) error {
	dir, err := os.MkdirTemp(b.dir, "levels-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	rows, err := writeLevels(filepath.Join(dir, "out"), bytes)
	if err != nil {
		return err
	}
	def, err := connector.Load("levels.yaml", []byte(levels), nil)
	if err != nil {
		return err
	}
	line, err := connector.NewLine(def, connector.LineOptions{Base: dir, Folders: []string{dir}})
	if err != nil {
		return err
	}
	var before, at runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	kept, most := 0, uint64(0)
	begin := time.Now()
	if _, err := line.Read(b.ctx, message.StockIn, connector.Reading{
		Keep: func(list []connector.Record) error {
			if kept += len(list); kept%100_000 < len(list) {
				runtime.ReadMemStats(&at)
				most = max(most, at.HeapAlloc)
			}
			return nil
		},
		Took: func(f connector.TakenFile) error { return errors.Join(f.Bad...) },
	}); err != nil {
		return err
	}
	if kept != rows {
		return fmt.Errorf("%d of %d rows were kept", kept, rows)
	}
	name := fmt.Sprintf("a file of %d MB with %d rows, read and cut", bytes>>20, rows)
	b.add(name, float64(bytes)/(1<<20)/time.Since(begin).Seconds(), "MB/s", 0, "", true)
	grown := float64(max(int64(most)-int64(before.HeapAlloc), 0)) / (1 << 20)
	b.add("memory held while that file is read", grown, "MB", 0, "below 64 MB", grown < 64)
	return nil
}

// writeLevels writes a file of so many bytes into a folder, and returns how many rows it has.
func writeLevels(folder string, bytes int) (rows int, err error) {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return 0, err
	}
	file, err := os.Create(filepath.Join(folder, "levels.csv"))
	if err != nil {
		return 0, err
	}
	w := bufio.NewWriterSize(file, 1<<20)
	written, err := fmt.Fprintln(w, "sku,n,text")
	for err == nil && written < bytes {
		var n int
		rows++
		n, err = fmt.Fprintf(w, "S%09d,%d,what the warehouse has to say of it\n", rows, rows%500)
		written += n
	}
	return rows, errors.Join(err, w.Flush(), file.Close())
}
