package main

import (
	_ "embed"
	"encoding/csv"
	"fmt"
	"hash/fnv"
	"strconv"
	"strings"
	"time"

	"openrelay/internal/core/catalog"
	"openrelay/internal/demo"
)

// labelled are listings as shops and marketplaces write them, each with the item it is, or none: slips of the
// finger, words in another order, abbreviated sizes, things that are nearly one of ours, and foreign GTINs.
//
//go:embed listings.csv
var labelled string

// likely is the score from which a suggestion counts as made.
const likely = 60

// quality is how good the first suggestion is.
type quality struct {
	listings, ours    int // listings, and those that are an item of ours
	suggested, right  int
	wrong             []string // listings with a wrong suggestion
	missed            []string
	precision, recall float64
}

// judge suggests an item for each labelled listing, without looking at codes, and compares. Half of the set was
// looked at while the weights were chosen; with held only the other half counts.
func judge(held bool) (quality, error) {
	rows, err := csv.NewReader(strings.NewReader(labelled)).ReadAll()
	if err != nil {
		return quality{}, err
	}
	known := demo.Known()
	gtins := map[string]string{}
	for _, k := range known {
		gtins[k.SKU] = k.GTIN
	}
	x := catalog.NewIndex(known)
	var q quality
	for _, r := range rows[1:] {
		h := fnv.New32a()
		h.Write([]byte(r[0]))
		if held && h.Sum32()%2 == 0 {
			continue
		}
		price, err := strconv.ParseInt(r[1], 10, 64)
		if err != nil {
			return q, err
		}
		w := catalog.Wanted{Title: r[0], Price: price, Currency: "EUR", GTIN: gtins[r[3]]}
		want := r[4]
		q.listings++
		if want != "" {
			q.ours++
		}
		got := ""
		score := int64(0)
		if list := x.Suggest(w, 1); len(list) > 0 {
			score = list[0].Score
			if score >= likely {
				got = list[0].SKU
			}
		}
		switch {
		case got != "" && got == want:
			q.suggested++
			q.right++
		case got != "":
			q.suggested++
			q.wrong = append(q.wrong, fmt.Sprintf("%q: %s (%d), is %s", r[0], got, score, want))
		case want != "":
			q.missed = append(q.missed, fmt.Sprintf("%q: %d, is %s", r[0], score, want))
		}
	}
	q.precision = float64(q.right) / float64(max(q.suggested, 1))
	q.recall = float64(q.right) / float64(max(q.ours, 1))
	return q, nil
}

func (b *bench) matching() error {
	all, err := judge(false)
	if err != nil {
		return err
	}
	held, err := judge(true)
	if err != nil {
		return err
	}
	fmt.Printf("matching: %d labelled listings (%d of ours), %d suggested, %d right; held out: %d, precision %.3f, recall %.3f\n",
		all.listings, all.ours, all.suggested, all.right, held.listings, held.precision, held.recall)
	good := all.precision >= 0.98 && all.recall >= 0.80
	b.add("matching: precision of the first suggestion", all.precision, "", 0, "0.98", good)
	b.add("  its recall", all.recall, "", 0, "0.80", good)
	b.add("  precision on the half that was not looked at", held.precision, "", 0, "0.98", held.precision >= 0.98)
	b.add("  recall there", held.recall, "", 0, "0.80", held.recall >= 0.80)
	known, size := demo.Known(), b.of(200_000, 2_000)
	many := make([]catalog.Known, 0, size)
	for i := range size {
		k := known[i%len(known)]
		k.ID, k.SKU, k.Name = int64(i+1), fmt.Sprintf("%s-%d", k.SKU, i), fmt.Sprintf("%s model %d", k.Name, i/len(known))
		many = append(many, k)
	}
	begin := time.Now()
	x := catalog.NewIndex(many)
	built := time.Since(begin)
	begin = time.Now()
	const n = 50
	for i := range n {
		x.Suggest(catalog.Wanted{Title: fmt.Sprintf("Bee jacket size M model %d", i*7), Price: 5490, Currency: "EUR"}, 4)
	}
	each := time.Since(begin).Seconds() * 1000 / n
	b.add("matching among 200,000 items: one listing", each, "ms", 0, "", true)
	b.add("  making the index", built.Seconds(), "s", 0, "", true)
	return nil
}
