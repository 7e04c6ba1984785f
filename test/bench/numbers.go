package main

import (
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"time"

	"synaxis/internal/core/series"
	"synaxis/internal/core/wire"
	"synaxis/internal/service/numbers"
	"synaxis/internal/service/store"
)

// The bounds that numbers over time must keep.
const (
	valueAim = 3.0 // bytes of a value that changes
	monthAim = 300 * time.Millisecond
	takeAim  = 0.1 // of a core, for 10,000 hosts with 20 sources that report every 30 s
)

// numbersTable measures what numbers over time take: the size of a month of a large fleet, how long a source's month
// over all its hosts takes, and what it costs to keep them current.
func numbersTable() (missed int, err error) {
	dir, err := os.MkdirTemp("", "synaxis-numbers-")
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(dir)
	if err := os.MkdirAll(filepath.Join(dir, "data"), 0o700); err != nil {
		return 0, err
	}
	ctx := context.Background()
	st, err := store.Open(ctx, filepath.Join(dir, "data"))
	if err != nil {
		return 0, err
	}
	defer st.Close()
	const hosts, sources = 10_000, 20
	rnd := rand.New(rand.NewPCG(1, 2))
	now := time.Date(2031, 4, 2, 0, 0, 0, 0, time.UTC)
	all := wire.Numbers{Deliveries: map[string]wire.DeliveryCounts{}}
	size, values := 0, 0
	var month []store.Block
	for d := range 30 { // the sums over all hosts, and one host's blocks for their size
		start := now.AddDate(0, 0, d-30).Unix()
		of := series.New(start, numbers.Middle, 288)
		for i := range of.Heard {
			of.Heard[i] = true
			for s := range sources {
				source := fmt.Sprintf("source-%02d", s)
				v := int64(rnd.IntN(3000))
				of.Add(series.Key{Source: source, Number: series.Read}, i, v)
				of.Add(series.Key{Source: source, Number: series.Bytes}, i, v*int64(110+rnd.IntN(20)))
				of.Add(series.Key{Source: source, Destination: "archive", Number: series.Acknowledged}, i, v)
				values += 2 // what is acknowledged is what was read
			}
		}
		packed := of.Pack()
		size += len(packed)
		month = append(month, store.Block{Tier: numbers.Middle, Start: start, Host: numbers.All, Packed: packed})
	}
	if err := st.SaveBlocks(ctx, month, nil); err != nil {
		return 0, err
	}
	each := float64(size) / float64(values)
	mark := verdictOf(each < valueAim, &missed)
	fmt.Printf("\nnumbers over time: %.1f bytes a value that changes (%s %.0f); %.1f GB for 30 days of 10,000 hosts with "+
		"20 sources, steps of five minutes\n", each, mark, valueAim, float64(size)*hosts/1e9)

	n, err := numbers.New(ctx, st, slog.New(slog.DiscardHandler), func() time.Time { return now })
	if err != nil {
		return missed, err
	}
	began := time.Now()
	got, err := n.Ask(ctx, numbers.Question{From: now.AddDate(0, 0, -30), To: now, Step: 30 * time.Minute,
		Numbers: []string{series.Read, series.Acknowledged}, Source: "source-07"})
	took := time.Since(began)
	if err != nil || len(got.Lines) != 2 || got.Lines[0].Sum() == 0 {
		return missed, fmt.Errorf("the month of a source is not told: %w", err)
	}
	mark = verdictOf(took < monthAim, &missed)
	fmt.Printf("the month of one source over 10,000 hosts: %s (%s %s)\n", took.Round(time.Millisecond), mark, monthAim)

	names, reports := make([]string, hosts), map[string]wire.Numbers{}
	for i := range names {
		names[i] = fmt.Sprintf("host-%05d", i)
	}
	for s := range sources {
		x := all
		x.Read, x.Bytes = 100, 12_000
		x.Deliveries = map[string]wire.DeliveryCounts{"archive": {Acknowledged: 100, Sent: 25_000}}
		reports[fmt.Sprintf("source-%02d", s)] = x
	}
	began = time.Now()
	for _, name := range names {
		n.Take(now, name, "", reports, reports)
	}
	share := time.Since(began).Seconds() / 30
	mark = verdictOf(share < takeAim, &missed)
	fmt.Printf("numbers of 10,000 hosts with 20 sources kept current: %.1f %% of a core (%s %.0f %%)\n", share*100,
		mark,
		takeAim*100)
	return missed, nil
}

func verdictOf(met bool, missed *int) string {
	if met {
		return "aim met:"
	}
	*missed++
	return "AIM MISSED:"
}
