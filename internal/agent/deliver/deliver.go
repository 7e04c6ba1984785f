// Package deliver brings encoded records to their destinations, again and again until they are settled: acknowledged,
// or refused for good and kept among the rejects.
package deliver

import (
	"bytes"
	"context"
	"crypto/tls"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"sync"
	"time"

	"github.com/klauspost/compress/zstd"

	"synaxis/internal/core/delivery"
	"synaxis/internal/core/record"
	"synaxis/internal/core/wire"
)

// MaxQueued bounds the bytes that wait for one destination; who brings more waits.
const MaxQueued = 8 << 20

// Item is a run of encoded records of one batch. Done is called once, when all of them are settled here.
type Item struct {
	Encoded record.Encoded
	Done    func(wire.DeliveryCounts)

	next   int // first record not taken into a delivery
	left   int // records not settled
	counts wire.DeliveryCounts
}

// piece is a part of an item that travels in one delivery.
type piece struct {
	item     *Item
	from, to int
}

func (p piece) bytes() []byte {
	from := uint32(0)
	if p.from > 0 {
		from = p.item.Encoded.Ends[p.from-1]
	}
	return p.item.Encoded.Bytes[from:p.item.Encoded.Ends[p.to-1]]
}

// Destination delivers to one place. One goroutine sends; any may Put.
type Destination struct {
	Spec    delivery.Spec
	rejects *Rejects
	log     *slog.Logger
	client  *http.Client

	mu      sync.Mutex
	queue   []*Item
	queued  int64
	stopped bool
	space   chan struct{} // closed and renewed when room was made
	ready   chan struct{} // one token when something waits
	failed  string        // why deliveries fail now, or ""
	since   time.Time

	out    *os.File
	zw     *zstd.Encoder
	body   []byte
	packed bytes.Buffer
	cancel context.CancelFunc
	done   chan struct{}
	stay   []piece // of the delivery that was interrupted
}

// New prepares a destination and, for a file, makes sure that it can be written.
func New(spec delivery.Spec, rejects *Rejects, log *slog.Logger) (*Destination, error) {
	d := &Destination{Spec: spec, rejects: rejects, log: log.With("destination", spec.Name), space: make(chan struct{}), ready: make(chan struct{}, 1)}
	switch spec.Kind {
	case "file":
		f, err := openFile(spec.Path)
		if err != nil {
			return nil, fmt.Errorf("destination %s: cannot write %s: %w", spec.Name, spec.Path, err)
		}
		d.out = f
	case "http", "otlp":
		d.client = &http.Client{
			Timeout: time.Minute,
			Transport: &http.Transport{DialContext: (&net.Dialer{Timeout: 10 * time.Second}).DialContext, TLSClientConfig: &tls.Config{MinVersion: tls.VersionTLS12},
				ForceAttemptHTTP2: true, MaxIdleConnsPerHost: 2, IdleConnTimeout: 90 * time.Second, DisableCompression: true, WriteBufferSize: 64 << 10},
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		}
		if spec.Compress == "zstd" {
			zw, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1))
			if err != nil {
				return nil, fmt.Errorf("destination %s: %w", spec.Name, err)
			}
			d.zw = zw
		}
	}
	return d, nil
}

// Start begins to deliver.
func (d *Destination) Start() {
	ctx, cancel := context.WithCancel(context.Background())
	d.cancel, d.done = cancel, make(chan struct{})
	go func() {
		defer close(d.done)
		d.run(ctx)
	}()
}

// Stop ends delivering and returns the items that are not settled. A delivery under way is given up; what the other
// side took of it will come twice.
func (d *Destination) Stop() []*Item {
	if d.cancel != nil {
		d.cancel()
		<-d.done
	}
	if d.out != nil {
		d.out.Close()
	}
	if d.client != nil {
		d.client.CloseIdleConnections()
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	seen := map[*Item]bool{}
	var rest []*Item
	take := func(it *Item) {
		if seen[it] || it.left == 0 {
			return
		}
		seen[it] = true
		it.next = len(it.Encoded.Ends) - it.left // records of an item settle in order
		rest = append(rest, it)
	}
	for _, p := range d.stay {
		take(p.item)
	}
	for _, it := range d.queue {
		take(it)
	}
	d.queue, d.stay, d.queued, d.stopped = nil, nil, 0, true
	close(d.space)
	d.space = make(chan struct{})
	return rest
}

// Drain waits until nothing is left to deliver, or the context ends.
func (d *Destination) Drain(ctx context.Context) {
	for {
		d.mu.Lock()
		empty := d.queued == 0
		space := d.space
		d.mu.Unlock()
		if empty {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-space:
		}
	}
}

// Put hands over an item. When there is no room it waits, and calls waiting now and then; when ctx ends it queues the
// item all the same, since its records must be settled by somebody. It answers false when the destination was stopped:
// another of its name has taken over.
func (d *Destination) Put(ctx context.Context, it *Item, waiting func()) bool {
	it.left = len(it.Encoded.Ends)
	for {
		d.mu.Lock()
		if d.stopped {
			d.mu.Unlock()
			return false
		}
		if d.queued < MaxQueued || ctx.Err() != nil {
			d.push(it)
			d.mu.Unlock()
			return true
		}
		space := d.space
		d.mu.Unlock()
		t := time.NewTimer(time.Second)
		select {
		case <-ctx.Done():
		case <-space:
		case <-t.C:
			waiting()
		}
		t.Stop()
	}
}

// Adopt takes over what another destination of this name left.
func (d *Destination) Adopt(items []*Item) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, it := range items {
		d.push(it)
	}
}

func (d *Destination) push(it *Item) {
	d.queue = append(d.queue, it)
	d.queued += int64(len(it.Encoded.Bytes))
	select {
	case d.ready <- struct{}{}:
	default:
	}
}

// Trouble tells why deliveries fail now, since when, or "".
func (d *Destination) Trouble() (string, time.Time) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.failed, d.since
}

func (d *Destination) trouble(why string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if why != "" && d.failed == "" {
		d.since = time.Now()
	}
	d.failed = why
}

func (d *Destination) run(ctx context.Context) {
	for {
		batch := d.gather(ctx)
		if batch == nil {
			return
		}
		if !d.deliver(ctx, batch) {
			d.mu.Lock()
			d.stay = append(d.stay, batch...)
			d.mu.Unlock()
			return
		}
	}
}

// gather takes records up to the bounds of one delivery, waiting for more as long as the destination says.
func (d *Destination) gather(ctx context.Context) []piece {
	var batch []piece
	records, size := 0, int64(0)
	var deadline <-chan time.Time
	for {
		d.mu.Lock()
		for len(d.queue) > 0 && records < d.Spec.Batch.Records && size < d.Spec.Batch.Bytes {
			it := d.queue[0]
			p := piece{it, it.next, it.next}
			start := uint32(0)
			if it.next > 0 {
				start = it.Encoded.Ends[it.next-1]
			}
			for p.to < len(it.Encoded.Ends) && records < d.Spec.Batch.Records {
				grown := size + int64(it.Encoded.Ends[p.to]-start)
				if grown > d.Spec.Batch.Bytes && records > 0 {
					break
				}
				records++
				p.to++
				if grown >= d.Spec.Batch.Bytes {
					break
				}
			}
			if p.to == p.from {
				size = d.Spec.Batch.Bytes // the next record does not fit any more
				break
			}
			size += int64(it.Encoded.Ends[p.to-1] - start)
			batch = append(batch, p)
			if it.next = p.to; it.next == len(it.Encoded.Ends) {
				d.queue = d.queue[1:]
			}
		}
		d.mu.Unlock()
		if records >= d.Spec.Batch.Records || size >= d.Spec.Batch.Bytes {
			return batch
		}
		if deadline == nil && len(batch) > 0 {
			t := time.NewTimer(d.Spec.Batch.Wait)
			defer t.Stop()
			deadline = t.C
		}
		select {
		case <-ctx.Done():
			d.mu.Lock()
			d.stay = append(d.stay, batch...)
			d.mu.Unlock()
			return nil
		case <-d.ready:
		case <-deadline:
			return batch
		}
	}
}

// deliver sends a batch until it is settled; false when ctx ended first.
func (d *Destination) deliver(ctx context.Context, batch []piece) bool {
	began := time.Now()
	for try := 1; ; try++ {
		outcome, why, pause := d.send(ctx, batch)
		if ctx.Err() != nil && outcome != delivery.Accepted {
			return false
		}
		switch outcome {
		case delivery.Accepted:
			d.trouble("")
			d.settle(batch, true)
			return true
		case delivery.Refused:
			d.trouble("")
			if left, right := halves(batch); right != nil {
				return d.deliver(ctx, left) && d.deliver(ctx, right)
			}
			return d.reject(ctx, batch, why)
		}
		if time.Since(began) > d.Spec.Retry.For {
			return d.reject(ctx, batch, fmt.Sprintf("given up after %s: %s", d.Spec.Retry.For, why))
		}
		if try == 1 {
			d.log.Warn("delivery failed, will try again", "reason", why)
		}
		d.trouble(why)
		wait := max(d.Spec.Retry.Pause(try, rand.Float64()), pause)
		select {
		case <-ctx.Done():
			return false
		case <-time.After(wait):
		}
	}
}

// halves splits a batch in two by records; right is nil when there is one record.
func halves(batch []piece) (left, right []piece) {
	n := 0
	for _, p := range batch {
		n += p.to - p.from
	}
	if n < 2 {
		return batch, nil
	}
	half := n / 2
	for _, p := range batch {
		switch size := p.to - p.from; {
		case half >= size:
			left = append(left, p)
			half -= size
		case half > 0:
			left = append(left, piece{p.item, p.from, p.from + half})
			right = append(right, piece{p.item, p.from + half, p.to})
			half = 0
		default:
			right = append(right, p)
		}
	}
	return left, right
}

func (d *Destination) settle(batch []piece, accepted bool) {
	freed := int64(0)
	for _, p := range batch {
		n := int64(p.to - p.from)
		if accepted {
			p.item.counts.Acknowledged += n
		} else {
			p.item.counts.Refused += n
		}
		if p.item.left -= int(n); p.item.left == 0 {
			p.item.Done(p.item.counts)
			freed += int64(len(p.item.Encoded.Bytes))
			p.item.Encoded.Release()
		}
	}
	if freed > 0 {
		d.mu.Lock()
		d.queued -= freed
		close(d.space)
		d.space = make(chan struct{})
		d.mu.Unlock()
	}
}

// reject keeps records that are refused for good. It goes on until they are safely written, since a full disk must
// not lose them; false when ctx ended first.
func (d *Destination) reject(ctx context.Context, batch []piece, why string) bool {
	for try := 1; ; try++ {
		err := d.rejects.Add(d.Spec, batch, why)
		if err == nil {
			break
		}
		d.trouble("cannot write the rejects: " + err.Error())
		select {
		case <-ctx.Done():
			return false
		case <-time.After(d.Spec.Retry.Pause(try, rand.Float64())):
		}
	}
	d.log.Warn("records refused for good, kept among the rejects", "reason", why)
	d.settle(batch, false)
	return true
}

// Abandon puts items that nobody will deliver any more among the rejects.
func (d *Destination) Abandon(ctx context.Context, items []*Item, why string) {
	for _, it := range items {
		if n := len(it.Encoded.Ends); it.next < n {
			d.reject(ctx, []piece{{it, it.next, n}}, why)
		}
	}
}
