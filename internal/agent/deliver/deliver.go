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
	"slices"
	"sync"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"golang.org/x/time/rate"

	"synaxis/internal/core/delivery"
	"synaxis/internal/core/health"
	"synaxis/internal/core/record"
	"synaxis/internal/core/wire"
)

// MaxQueued bounds the bytes that wait for one destination; who brings more waits.
const MaxQueued = 8 << 20

// Item is a run of encoded records of one batch. Done is called once, when all of them are settled here.
type Item struct {
	Encoded record.Encoded
	Done    func(wire.DeliveryCounts)

	next   int    // first record not taken into a delivery
	left   int    // records not settled
	open   int    // the first of them
	ahead  []bool // records settled beyond that, when there are any
	counts wire.DeliveryCounts
}

// settle notes that a run of records is settled.
func (it *Item) settle(from, to int) {
	it.left -= to - from
	if from == it.open && it.ahead == nil {
		it.open = to
		return
	}
	if it.ahead == nil {
		it.ahead = make([]bool, len(it.Encoded.Ends))
	}
	for i := from; i < to; i++ {
		it.ahead[i] = true
	}
	for it.open < len(it.ahead) && it.ahead[it.open] {
		it.open++
	}
}

// run is the next run of records that are not settled, from a place on.
func (it *Item) run(from int) (begin, end int) {
	if it.ahead == nil {
		return max(from, it.open), len(it.Encoded.Ends)
	}
	for from < len(it.ahead) && (from < it.open || it.ahead[from]) {
		from++
	}
	for end = from; end < len(it.ahead) && !it.ahead[end]; end++ {
	}
	return from, end
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
	failed  Trouble
	refusal string // the last answer that refused records
	refused time.Time

	out    *os.File
	zw     *zstd.Encoder
	gw     *gzip.Writer
	body   []byte
	packed bytes.Buffer
	cancel context.CancelFunc
	done   chan struct{}
	stay   []piece       // of deliveries that were interrupted
	doubt  []doubt       // deliveries that were refused as a whole, as long as nothing was accepted since
	guilty []doubt       // single records that were refused, as long as nothing was accepted after them
	inRow  int           // requests that were refused one after the other
	pace   *rate.Limiter // of requests that look for the records to blame
	probes int
	said   time.Duration // answerSaid, but in tests
}

// doubt is a delivery that was refused as a whole: its records may be to blame, or the destination refuses everything.
type doubt struct {
	batch []piece
	why   string
	since time.Time
}

// Trouble is why deliveries fail now; without Code they do not.
type Trouble struct {
	Code   health.Code
	Reason string
	Since  time.Time
}

// Bounds of waiting for an answer: when it is said that there is none, and when it is given up.
const (
	answerSaid   = 8 * time.Second
	answerWaited = 15 * time.Second
)

// Bounds of looking for the records to blame in a delivery, in requests a second and at once.
const (
	blamePerSecond = 20
	blameAtOnce    = 40
)

// New prepares a destination and, for a file, makes sure that it can be written.
func New(spec delivery.Spec, rejects *Rejects, log *slog.Logger) (*Destination, error) {
	d := &Destination{Spec: spec, rejects: rejects, log: log.With("destination", spec.Name), space: make(chan struct{}), ready: make(chan struct{}, 1), pace: rate.NewLimiter(blamePerSecond, blameAtOnce), said: answerSaid}
	switch spec.Kind {
	case "file":
		f, err := openFile(spec.Path)
		if err != nil {
			return nil, fmt.Errorf("destination %s: cannot write %s: %w", spec.Name, spec.Path, err)
		}
		d.out = f
	case "http", "otlp":
		d.client = &http.Client{
			Timeout: answerWaited,
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
		it.next = it.open
		rest = append(rest, it)
	}
	for _, p := range d.stay {
		take(p.item)
	}
	for _, x := range slices.Concat(d.doubt, d.guilty) {
		for _, p := range x.batch {
			take(p.item)
		}
	}
	d.doubt, d.guilty = nil, nil
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

// Trouble tells why deliveries fail now.
func (d *Destination) Trouble() Trouble {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.failed
}

// Refusal is the last answer that refused records, and when that was.
func (d *Destination) Refusal() (string, time.Time) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.refusal, d.refused
}

// trouble notes why deliveries fail, since at least a time.
func (d *Destination) trouble(code health.Code, why string, since time.Time) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.failed.Code != "" {
		since = d.failed.Since
	}
	d.failed = Trouble{code, why, since}
}

func (d *Destination) fine() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.failed = Trouble{}
}

func (d *Destination) run(ctx context.Context) {
	for {
		batch := d.gather(ctx)
		ok := ctx.Err() == nil
		switch {
		case !ok:
		case batch == nil: // only what is in doubt
			ok = d.hold(ctx)
		default:
			ok = d.deliver(ctx, batch)
		}
		if !ok {
			d.mu.Lock()
			d.stay = append(d.stay, batch...)
			d.mu.Unlock()
			return
		}
	}
}

// gather takes records up to the bounds of one delivery, waiting for more as long as the destination says. It answers nil when ctx
// ended, and when nothing came while another delivery is in doubt.
func (d *Destination) gather(ctx context.Context) []piece {
	var batch []piece
	records, size := 0, int64(0)
	var deadline <-chan time.Time
	if len(d.doubt) > 0 {
		t := time.NewTimer(d.Spec.Retry.Pause(1, 1))
		defer t.Stop()
		deadline = t.C
	}
	for {
		d.mu.Lock()
		for len(d.queue) > 0 && records < d.Spec.Batch.Records && size < d.Spec.Batch.Bytes {
			it := d.queue[0]
			from, end := it.run(it.next)
			if it.next = from; from == end {
				d.queue = d.queue[1:]
				continue
			}
			p := piece{it, it.next, it.next}
			start := uint32(0)
			if it.next > 0 {
				start = it.Encoded.Ends[it.next-1]
			}
			for p.to < end && records < d.Spec.Batch.Records {
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
			return batch
		case <-d.ready:
		case <-deadline:
			return batch
		}
	}
}

// deliver sends a batch until it is settled or in doubt; false when ctx ended first.
func (d *Destination) deliver(ctx context.Context, batch []piece) bool {
	began := time.Now()
	a, ok := d.until(ctx, batch, began)
	switch {
	case !ok:
		return false
	case a.outcome == delivery.Again: // for too long
		return d.giveUp(ctx, batch, a.why)
	case a.outcome == delivery.Refused:
		d.doubt = append(d.doubt, doubt{batch, a.why, began})
		if len(d.doubt) > 1 {
			return d.hold(ctx)
		}
		return true // the next one will tell who is to blame
	}
	return d.accepted(ctx, batch) && d.blame(ctx)
}

// accepted settles what was accepted. What was found to blame before is now sure to be. False when ctx ended first.
func (d *Destination) accepted(ctx context.Context, batch []piece) bool {
	d.settle(batch, true)
	d.inRow = 0
	for len(d.guilty) > 0 {
		x := d.guilty[0]
		if !d.reject(ctx, x.batch, x.why) {
			return false
		}
		d.guilty = d.guilty[1:]
	}
	return true
}

// until sends a batch until the answer says what becomes of it, or it has been tried for too long; false when ctx ended first.
func (d *Destination) until(ctx context.Context, batch []piece, began time.Time) (answer, bool) {
	for try := 1; ; try++ {
		a := d.send(ctx, batch)
		if a.outcome == delivery.Accepted {
			d.fine()
			return a, true
		}
		if ctx.Err() != nil {
			return a, false
		}
		if a.outcome == delivery.Refused {
			d.mu.Lock()
			d.refusal, d.refused = a.why, time.Now()
			d.mu.Unlock()
			return a, true
		}
		if time.Since(began) > d.Spec.Retry.For {
			return a, true
		}
		if try == 1 {
			d.log.Warn("delivery failed, will try again", "reason", a.why)
		}
		d.trouble(a.code, a.why, began)
		if !pause(ctx, max(d.Spec.Retry.Pause(try, rand.Float64()), a.pause)) {
			return a, false
		}
	}
}

// pause waits; false when ctx ended first.
func pause(ctx context.Context, d time.Duration) bool {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
		return false
	case <-t.C:
		return true
	}
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
		if p.item.settle(p.from, p.to); p.item.left == 0 {
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
		d.trouble(health.RejectsUnwritable, "the rejects cannot be written: "+err.Error(), time.Now())
		if !pause(ctx, d.Spec.Retry.Pause(try, rand.Float64())) {
			return false
		}
	}
	d.log.Warn("records refused for good, kept among the rejects", "reason", why)
	d.settle(batch, false)
	return true
}

// Abandon puts items that nobody will deliver any more among the rejects.
func (d *Destination) Abandon(ctx context.Context, items []*Item, why string) {
	for _, it := range items {
		if rest := openIn([]piece{{it, 0, len(it.Encoded.Ends)}}); len(rest) > 0 {
			d.reject(ctx, rest, why)
		}
	}
}
