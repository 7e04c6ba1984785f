// Package numbers keeps what hosts counted over time: steps of 30 seconds for a day, of five minutes for a month and
// of an hour for thirteen months, of each host and of sums over all hosts and over each site.
package numbers

import (
	"context"
	"log/slog"
	"strings"
	"sync"
	"time"

	"synaxis/internal/core/series"
	"synaxis/internal/core/wire"
	"synaxis/internal/service/store"
)

// Lengths of steps in seconds, and of the blocks that hold them.
const (
	Fine, fineBlock     = 30, 300
	Middle, middleBlock = 300, day
	Coarse, coarseBlock = 3600, 30 * day
	day                 = 24 * 3600
)

// How long steps are kept.
const (
	keepFine   = 25 * time.Hour
	keepMiddle = 31 * 24 * time.Hour
	keepCoarse = 400 * 24 * time.Hour
)

// All is the name of the sums over all hosts. Neither it nor the name of a site's sums can be that of a host.
const All = "*"

const sitePrefix = "*site="

// siteLabel is the label for whose values sums are kept.
const siteLabel = "site"

// together is how long after a report the next one may come so that nothing was missed between them.
const together = 90 * time.Second

// Numbers is what was counted over time. It is safe for concurrent use.
type Numbers struct {
	store  *store.Store
	log    *slog.Logger
	now    func() time.Time
	labels func(host string) map[string]string

	mu     sync.Mutex
	start  int64 // of the five minutes that are open, in Unix seconds
	open   map[string]*series.Block
	full   []*named // five minutes that are over, to be written
	hosts  map[string]told
	totals map[string]map[series.Key]int64 // levels, of each sum
	sums   []sum                           // of the report that is taken
	merged int64                           // up to when days are merged into coarser steps, in Unix seconds
}

// told is what a host told last.
type told struct {
	at     time.Time
	site   string
	levels map[series.Key]int64
}

type named struct {
	name  string
	block *series.Block
}

// New goes on where the last service ended. labels are those of a host.
func New(
	ctx context.Context, st *store.Store, log *slog.Logger, now func() time.Time,
) (*Numbers, error) {
	n := &Numbers{store: st, log: log, now: now, open: map[string]*series.Block{}, hosts: map[string]told{},
		totals: map[string]map[series.Key]int64{},
		labels: func(string) map[string]string { return nil }}
	n.start = floor(now().Unix(), fineBlock)
	list, err := st.Blocks(ctx, Fine, "", time.Unix(n.start, 0), now().Add(time.Second))
	if err != nil {
		return nil, err
	}
	for _, x := range list {
		if b, err := series.Unpack(x.Packed, nil); err == nil {
			n.open[x.Host] = b
		}
	}
	n.merged = floor(now().Unix(), day)
	for at := floor(now().Add(-keepFine-24*time.Hour).Unix(), day); at < n.merged; at += day {
		left, err := st.Unmerged(ctx, Fine, Middle, time.Unix(at, 0), time.Unix(at+day, 0))
		if err != nil {
			return nil, err
		}
		if len(left) > 0 {
			n.merged = at
		}
	}
	st.Follow(n.follow)
	return n, nil
}

// Labels says how the labels of a host are found.
func (n *Numbers) Labels(labels func(host string) map[string]string) { n.labels = labels }

func floor(v, step int64) int64 { return v - ((v%step)+step)%step }

// sum is a number with its key.
type sum struct {
	key   series.Key
	value int64
}

// columns are the numbers of a source that add up, behind those of other sources.
func columns(out []sum, source string, d wire.Numbers) []sum {
	put := func(destination, number string, v int64) {
		if v != 0 {
			out = append(out, sum{series.Key{Source: source, Destination: destination, Number: number}, v})
		}
	}
	put("", series.Read, d.Read)
	put("", series.Bytes, d.Bytes)
	put("", series.Unparsed, d.Unparsed)
	put("", series.Dropped, d.Dropped)
	put("", series.Masked, d.Masked)
	put("", series.NoZone, d.NoZone)
	for reason, v := range d.Drops {
		put("", series.Dropped+":"+reason, v)
	}
	for mask, v := range d.Masks {
		put("", series.Masked+":"+mask, v)
	}
	if len(d.Senders)+len(d.SenderAcknowledged)+len(d.SenderRefused) > 0 {
		senders(d, put)
	}
	for to, c := range d.Deliveries {
		put(to, series.Acknowledged, c.Acknowledged)
		put(to, series.Sent, c.Sent)
		put(to, series.Rejected, c.Refused)
		put(to, series.Discarded, c.Discarded)
	}
	return out
}

// senders puts what is counted of each sender.
func senders(d wire.Numbers, put func(destination, number string, v int64)) {
	for number, by := range map[string]map[string]int64{series.Read: d.Senders, series.Bytes: d.SenderBytes,
		series.Unparsed: d.SenderUnparsed, series.Dropped: d.SenderDropped, series.Masked: d.SenderMasked} {
		for sender, v := range by {
			put("", series.OfSender(number, sender), v)
		}
	}
	for number, by := range map[string]map[string]int64{series.Dropped: d.SenderDrops, series.Masked: d.SenderMasks} {
		for name, v := range by {
			why, sender := wire.CutSenderOf(name)
			put("", series.OfSender(number+":"+why, sender), v)
		}
	}
	for number, by := range map[string]map[string]int64{series.Acknowledged: d.SenderAcknowledged,
		series.Sent: d.SenderSent, series.Rejected: d.SenderRefused} {
		for name, v := range by {
			to, sender := wire.CutSenderOf(name)
			put(to, series.OfSender(number, sender), v)
		}
	}
}

// levelsOf are how much waits of a source at a moment.
func levelsOf(out map[series.Key]int64, source string, n wire.Numbers, now time.Time) {
	age := func(unixNano int64) int64 { return max(0, int64(now.Sub(time.Unix(0, unixNano)).Seconds())) }
	for to, c := range n.Deliveries {
		k := series.Key{Source: source, Destination: to, Number: series.Waiting}
		if v := c.Waiting(); v > 0 {
			out[k] = v
		}
		if k.Number = series.Disk; c.DiskBytes > 0 {
			out[k] = c.DiskBytes
		}
		if c.Oldest > 0 && c.Waiting() > 0 {
			k.Number = series.Lag
			out[k] = age(c.Oldest)
		}
	}
	if k := (series.Key{Source: source, Number: series.Lag}); n.Oldest > 0 {
		out[k] = age(n.Oldest)
	}
	for name, v := range n.SenderWaiting {
		if v <= 0 {
			continue
		}
		to, sender := wire.CutSenderOf(name)
		out[series.Key{Source: source, Destination: to, Number: series.OfSender(series.Waiting, sender)}] = v
		if at := n.SenderOldest[name]; at > 0 {
			out[series.Key{Source: source, Destination: to, Number: series.OfSender(series.Lag, sender)}] = age(at)
		}
	}
}

// Site is that of a host, as its labels say.
func (n *Numbers) Site(host string) string { return n.labels(host)[siteLabel] }

// Take takes what a host of a site has counted by now since it reported before, and how its sources are.
func (n *Numbers) Take(now time.Time, host, site string, deltas, all map[string]wire.Numbers) {
	is := told{at: now, site: site, levels: map[series.Key]int64{}}
	for source, x := range all {
		levelsOf(is.levels, source, x, now)
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	sums := n.sums[:0]
	for source, d := range deltas {
		sums = columns(sums, source, d)
	}
	n.sums = sums
	n.roll(now)
	was := n.hosts[host]
	n.hosts[host] = is
	n.move(All, was.levels, is.levels)
	if was.site != is.site {
		n.move(sitePrefix+was.site, was.levels, nil)
		was.levels = nil // of the site that it has now nothing of it waited
	}
	names := append(make([]string, 0, 3), host, All)
	if is.site != "" {
		n.move(sitePrefix+is.site, was.levels, is.levels)
		names = append(names, sitePrefix+is.site)
	}
	for _, name := range names {
		b := n.open[name]
		if b == nil {
			b = series.New(n.start, Fine, fineBlock/Fine)
			n.open[name] = b
		}
		at := 0 // also while the clock is set back
		if i, in := b.At(now.Unix()); in {
			at = i
		}
		b.Heard[at] = true
		quiet := now.Sub(was.at)
		for i := at - 1; i >= 0 && !b.Heard[i] && quiet < together; i-- {
			b.Heard[i] = now.Sub(time.Unix(b.Start+int64(i+1)*Fine, 0)) < quiet
		}
		for _, c := range sums {
			b.Add(c.key, at, c.value)
		}
		// what waits no more waited in this step
		for _, list := range [...]map[series.Key]int64{was.levels, is.levels} {
			for k := range list {
				switch {
				case name == host || series.IsLag(k.Number):
					b.Add(k, at, is.levels[k])
				default:
					b.Add(k, at, n.totals[name][k])
				}
			}
		}
	}
}

// move brings the levels of a sum up to date: how much waits adds up over hosts. n is locked.
func (n *Numbers) move(name string, was, is map[series.Key]int64) {
	totals := n.totals[name]
	if totals == nil {
		totals = map[series.Key]int64{}
		n.totals[name] = totals
	}
	for k, v := range is {
		if !series.IsLag(k.Number) {
			totals[k] += v
		}
	}
	for k, v := range was {
		if series.IsLag(k.Number) {
			continue
		}
		if totals[k] -= v; totals[k] <= 0 {
			delete(totals, k)
		}
	}
}

// Forget takes a host out of the sums that is in the fleet no more. What it counted stays.
func (n *Numbers) Forget(host string) {
	n.mu.Lock()
	defer n.mu.Unlock()
	was := n.hosts[host]
	delete(n.hosts, host)
	n.move(All, was.levels, nil)
	n.move(sitePrefix+was.site, was.levels, nil)
}

// follow forgets hosts that are retired.
func (n *Numbers) follow(changes []store.Change) {
	for _, c := range changes {
		if h, ok := c.(store.HostPut); ok && !h.RetiredAt.IsZero() {
			n.Forget(h.Name)
		}
	}
}

// roll begins the next five minutes when their time has come. n is locked.
func (n *Numbers) roll(now time.Time) {
	start := floor(now.Unix(), fineBlock)
	if start <= n.start { // a clock that was set back goes on in the open block
		return
	}
	for name, b := range n.open {
		n.full = append(n.full, &named{name, b})
	}
	n.open, n.start = map[string]*series.Block{}, start
}

// mostUnwritten bounds what waits to be written, in blocks.
const mostUnwritten = 200_000

// Unwritten is what was counted and is not written yet.
type Unwritten struct {
	Until  time.Time // before when it was counted; zero for all that was
	blocks []*named
	open   []store.Block
}

// Any tells whether there is anything.
func (u Unwritten) Any() bool { return len(u.blocks)+len(u.open) > 0 }

// Unwritten answers the five minutes that are over now, and with all those that are open too.
func (n *Numbers) Unwritten(now time.Time, all bool) (u Unwritten) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.roll(now)
	u.blocks, u.Until = n.full, time.Unix(n.start, 0)
	if all {
		u.Until = time.Time{}
		for name, b := range n.open {
			u.open = append(u.open, pack(name, b))
		}
	}
	return u
}

// Write writes it, and what each host had counted by then. One goroutine writes.
func (n *Numbers) Write(ctx context.Context, u Unwritten, sums []store.Sums) error {
	for _, x := range u.blocks {
		u.open = append(u.open, pack(x.name, x.block))
	}
	err := n.store.SaveBlocks(ctx, u.open, sums)
	n.mu.Lock()
	defer n.mu.Unlock()
	if err == nil {
		n.full = n.full[len(u.blocks):]
	} else if len(n.full) > mostUnwritten {
		n.full = n.full[len(n.full)-mostUnwritten:]
	}
	return err
}

func pack(name string, b *series.Block) store.Block {
	return store.Block{Tier: b.Step, Start: b.Start, Host: name, Packed: b.Pack()}
}

// Run merges until ctx ends.
func (n *Numbers) Run(ctx context.Context) {
	t := time.NewTicker(10 * time.Minute)
	defer t.Stop()
	for first := time.After(5 * time.Second); ; {
		select {
		case <-ctx.Done():
			return
		case <-first:
		case <-t.C:
		}
		if err := n.Merge(ctx); err != nil && ctx.Err() == nil {
			n.log.Error("numbers over time are not merged", "error", err)
		}
	}
}

// mergedAtOnce bounds how many hosts are merged in one commit.
const mergedAtOnce = 100

// Merge merges days that are over into coarser steps, and removes what is too old.
func (n *Numbers) Merge(ctx context.Context) error {
	for {
		n.mu.Lock()
		at, now := n.merged, n.now()
		n.mu.Unlock()
		if now.Unix() < at+day+600 { // what comes late is there
			break
		}
		hosts, err := n.store.Unmerged(ctx, Fine, Middle, time.Unix(at, 0), time.Unix(at+day, 0))
		if err != nil {
			return err
		}
		for len(hosts) > 0 {
			some := hosts[:min(mergedAtOnce, len(hosts))]
			hosts = hosts[len(some):]
			var out []store.Block
			for _, host := range some {
				blocks, err := n.mergeDay(ctx, host, at)
				if err != nil {
					return err
				}
				out = append(out, blocks...)
			}
			if err := n.store.SaveBlocks(ctx, out, nil); err != nil {
				return err
			}
			if ctx.Err() != nil {
				return ctx.Err()
			}
		}
		n.mu.Lock()
		n.merged = at + day
		n.mu.Unlock()
	}
	now := n.now()
	for tier, keep := range map[int64]time.Duration{Fine: keepFine, Middle: keepMiddle, Coarse: keepCoarse} {
		if err := n.store.PruneBlocks(ctx, tier, now.Add(-keep)); err != nil {
			return err
		}
	}
	return nil
}

// mergeDay makes the coarser blocks of a host that a day belongs to.
func (n *Numbers) mergeDay(ctx context.Context, host string, at int64) ([]store.Block, error) {
	fine, err := n.store.Blocks(ctx, Fine, host, time.Unix(at, 0), time.Unix(at+day, 0))
	if err != nil {
		return nil, err
	}
	of := series.New(at, Middle, middleBlock/Middle)
	for _, x := range fine {
		if b, err := series.Unpack(x.Packed, nil); err == nil {
			of.Put(b)
		} else {
			n.log.Warn("numbers of five minutes are damaged and left out", "host", host, "start", x.Start)
		}
	}
	from := floor(at, coarseBlock)
	hours := series.New(from, Coarse, coarseBlock/Coarse)
	old, err := n.store.Blocks(ctx, Coarse, host, time.Unix(from, 0), time.Unix(from+1, 0))
	if err != nil {
		return nil, err
	}
	for _, x := range old {
		if b, err := series.Unpack(x.Packed, nil); err == nil {
			hours.Put(b)
		}
	}
	hours.Put(of)
	return []store.Block{pack(host, of), pack(host, hours)}, nil
}

// site is the site of a sum; false for other names.
func siteOf(name string) (string, bool) { return strings.CutPrefix(name, sitePrefix) }
