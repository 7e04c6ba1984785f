package fleetsim

import (
	"context"
	"crypto/rand"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"synaxis/examples"
	"synaxis/internal/contract"
	"synaxis/internal/service"
)

// Options of the demo.
type Options struct {
	Dir    string
	Listen string
	Log    *slog.Logger // of the service and the agents
	Out    io.Writer
}

// Demo is the ferry line, running.
type Demo struct {
	o         Options
	url       string
	client    *contract.Client
	Receivers *Receivers
	Fleet     []*Running
	ends      []func()
}

// Start starts everything: receivers, service, agents; it loads and publishes the catalogue and rolls it out.
func Start(ctx context.Context, o Options) (*Demo, error) {
	d := &Demo{o: o}
	if err := d.start(ctx); err != nil {
		d.Close()
		return nil, err
	}
	return d, nil
}

func (d *Demo) say(format string, args ...any) { fmt.Fprintf(d.o.Out, format+"\n", args...) }

func (d *Demo) start(ctx context.Context) (err error) {
	if d.Receivers, err = NewReceivers(); err != nil {
		return err
	}
	d.ends = append(d.ends, d.Receivers.Close)
	if err := d.startService(ctx); err != nil {
		return err
	}
	d.say("Service at %s, receivers at %s", d.url, d.Receivers.URL())
	machines := WhimbrelLine()
	if err := d.join(ctx, machines); err != nil {
		return err
	}
	d.say("%d hosts have joined", len(machines))
	if err := d.secrets(ctx); err != nil {
		return err
	}
	revision, err := d.publish(ctx)
	if err != nil {
		return err
	}
	d.say("examples/ferry-line is published as revision %d", revision)
	if err := d.rollOut(ctx); err != nil {
		return err
	}
	return d.desk(ctx)
}

// secrets sets what the catalogue refers to.
func (d *Demo) secrets(ctx context.Context) error {
	for _, s := range []struct{ name, about, owner string }{
		{"archive_token", "Lets the hosts write to the harbour archive", "Ines, harbour archive"},
		{"mask_key", "Keys the hashes that stand for the addresses of visitors", "Watch desk"},
	} {
		value := rand.Text()
		if _, err := answer[contract.Secret](d.client.SetSecret(ctx, s.name, contract.SecretValue{Value: &value,
			About: &s.about, Owner: &s.owner})); err != nil {
			return err
		}
	}
	return nil
}

// desk leaves on the desk what an administrator would find there in the morning: a draft full of mistakes.
func (d *Demo) desk(ctx context.Context) error {
	title := "Winter timetable, loaded in a hurry"
	draft, err := answer[contract.Draft](
		d.client.LoadDraft(
			ctx,
			contract.NewDraft{Title: &title, Files: []contract.File{{Path: "winter.yaml", Text: examples.Mistakes}}},
		),
	)
	if err != nil {
		return err
	}
	codes := map[string]bool{}
	for _, f := range draft.Findings {
		codes[f.Code] = true
	}
	d.say("Draft %d, %q, trips %d of the checks: synaxis draft check %d", draft.Id, title, len(codes), draft.Id)
	if len(codes) < 12 {
		return fmt.Errorf("the draft of mistakes trips only %d checks", len(codes))
	}
	return nil
}

// startService runs the service in this process.
func (d *Demo) startService(ctx context.Context) error {
	data := filepath.Join(d.o.Dir, "service")
	runCtx, cancel := context.WithCancel(context.WithoutCancel(ctx))
	started, ended := make(chan string, 1), make(chan error, 1)
	go func() {
		ended <- service.Run(runCtx, service.Options{Data: data, Listen: d.o.Listen, Log: d.o.Log, Started: func(
			address, _, _ string, _ bool) {
			started <- address
		}})
	}()
	d.ends = append(d.ends, func() { cancel(); <-ended })
	select {
	case d.url = <-started:
	case err := <-ended:
		ended <- err
		return fmt.Errorf("the service did not start: %w", err)
	}
	token, err := os.ReadFile(filepath.Join(data, "admin.token"))
	if err != nil {
		return err
	}
	d.client, err = contract.NewClient(
		d.url+"/api/v1",
		contract.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
			r.Header.Set("Authorization", "Bearer "+strings.TrimSpace(string(token)))
			return nil
		}),
	)
	return err
}

// Token is the admin's API token of the demo's service.
func (d *Demo) Token() (string, error) {
	text, err := os.ReadFile(filepath.Join(d.o.Dir, "service", "admin.token"))
	return strings.TrimSpace(string(text)), err
}

// URL is the address of the service.
func (d *Demo) URL() string { return d.url }

func answer[T any](resp *http.Response, err error) (v T, _ error) {
	if err != nil {
		return v, err
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	if err != nil {
		return v, err
	}
	if resp.StatusCode/100 != 2 {
		return v, fmt.Errorf("%s %s answered %s: %s", resp.Request.Method, resp.Request.URL.Path, resp.Status, text)
	}
	return v, json.Unmarshal(text, &v)
}

// join makes a token for each kind of machine, starts the agents, and gives each host its folders.
func (d *Demo) join(ctx context.Context, machines []Machine) error {
	tokens := map[string]string{}
	any := 0
	for _, m := range machines {
		key := m.Site + "/" + m.Role
		if tokens[key] == "" {
			labels := map[string]string{"site": m.Site, "role": m.Role}
			t, err := answer[contract.CreatedJoinToken](
				d.client.CreateJoinToken(ctx, contract.NewJoinToken{Labels: &labels, Uses: &any}),
			)
			if err != nil {
				return err
			}
			tokens[key] = t.Token
		}
		service := d.url
		var links []*Link
		if m.Role == "vessel" { // which has both only where its link reaches
			for _, to := range []string{d.url, d.Receivers.URL()} {
				link, err := NewLink(strings.TrimPrefix(to, "http://"))
				if err != nil {
					return err
				}
				d.ends = append(d.ends, link.Close)
				links = append(links, link)
			}
			service = "http://" + links[0].Address()
		}
		r, err := NewRunning(m, filepath.Join(d.o.Dir, "hosts"), service, tokens[key], d.o.Log)
		if err != nil {
			return err
		}
		r.links = links
		if err := r.Start(context.WithoutCancel(ctx)); err != nil {
			return err
		}
		d.Fleet = append(d.Fleet, r)
		d.ends = append(d.ends, r.Stop)
	}
	if err := d.wait(ctx, 30*time.Second, "all hosts to join", func() (bool, error) {
		hosts, err := d.hosts(ctx)
		connected := 0
		for _, h := range hosts {
			if h.Connected {
				connected++
			}
		}
		return connected == len(machines), err
	}); err != nil {
		return err
	}
	authority, err := answer[contract.SenderAuthority](d.client.GetSenderAuthority(ctx))
	if err != nil {
		return err
	}
	trust := x509.NewCertPool()
	trust.AppendCertsFromPEM([]byte(authority.Certificate))
	for _, m := range d.Fleet {
		m.Trust = trust
		receivers := d.Receivers.URL()
		if len(m.links) > 0 {
			receivers = "http://" + m.links[1].Address()
		}
		set := map[string]string{
			"log_root":        m.LogRoot(),
			"watch_desk":      receivers,
			"harbour_archive": receivers,
		}
		maps.Copy(set, m.Ports)
		if _, err := answer[contract.Host](d.client.EditHostSettings(ctx, m.Name, nil,
			contract.MapEdit{Set: &set})); err != nil {
			return err
		}
	}
	return nil
}

func (d *Demo) hosts(ctx context.Context) ([]contract.HostSummary, error) {
	limit := 1000
	l, err := answer[contract.HostList](d.client.ListHosts(ctx, &contract.ListHostsParams{Limit: &limit}))
	return l.Items, err
}

func (d *Demo) wait(ctx context.Context, most time.Duration, what string, done func() (bool, error)) error {
	deadline := time.Now().Add(most)
	for {
		ok, err := done()
		if err != nil || ok {
			return err
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("waited %s for %s", most, what)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

func (d *Demo) publish(ctx context.Context) (int, error) {
	var files []contract.File
	err := fs.WalkDir(examples.FerryLine, "ferry-line", func(p string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		text, err := examples.FerryLine.ReadFile(p)
		files = append(files, contract.File{Path: strings.TrimPrefix(p, "ferry-line/"), Text: string(text)})
		return err
	})
	if err != nil {
		return 0, err
	}
	title, message := "The Whimbrel Line", "first catalogue of the ferry line"
	draft, err := answer[contract.Draft](
		d.client.LoadDraft(ctx, contract.NewDraft{Title: &title, Whole: true, Files: files}),
	)
	if err != nil {
		return 0, err
	}
	p, err := answer[contract.Published](d.client.PublishDraft(ctx, draft.Id, contract.Publication{Message: &message}))
	return p.Revision, err
}

func (d *Demo) rollOut(ctx context.Context) error {
	r, err := answer[contract.Rollout](d.client.StartRollout(ctx, contract.NewRollout{}))
	if err != nil {
		return err
	}
	err = d.wait(ctx, time.Minute, "the rollout", func() (bool, error) {
		r, err = answer[contract.Rollout](d.client.GetRollout(ctx, r.Id))
		return r.State != contract.RolloutStateRunning, err
	})
	if err != nil {
		return err
	}
	d.say(
		"Rollout %d of revision %d is %s on %d of %d hosts",
		r.Id,
		r.Revision,
		r.State,
		r.Counts["confirmed"],
		len(r.Hosts),
	)
	if r.State != contract.RolloutStateDone {
		return fmt.Errorf("rollout %d is %s", r.Id, r.State)
	}
	return nil
}

// SignInLink makes a link to the console.
func (d *Demo) SignInLink(ctx context.Context) (string, error) {
	l, err := answer[contract.SignInLink](d.client.CreateSignInLink(ctx))
	return l.Url, err
}

// Close stops everything, last started first.
func (d *Demo) Close() {
	for _, end := range slices.Backward(d.ends) {
		end()
	}
	d.ends = nil
}

// Row is one line of the table of Once.
type Row struct {
	Host, Sources                            string
	Written, Dropped, Acknowledged, Received int64
	Masked                                   int64 // records in which something was masked
	Duplicates                               int64
	State                                    string
}

// Agrees tells whether the numbers fit: what was written was dropped by a rule or acknowledged, and that is what was
// received.
func (r Row) Agrees() bool {
	return r.Written == r.Acknowledged+r.Dropped && r.Acknowledged == r.Received
}

// Private tells how many pieces of private data were written, and what of it arrived anywhere.
func (d *Demo) Private() (written int64, leaks []string) {
	for _, m := range d.Fleet {
		written += m.private.Load()
	}
	leaks = d.Receivers.Leaks()
	for _, m := range d.Fleet {
		text, err := os.ReadFile(filepath.Join(m.LogRoot(), "journal", "journal.ndjson"))
		if err == nil {
			leaks = append(leaks, private.FindAllString(string(text), -1)...)
		}
	}
	return written, leaks
}

// Once tells the whole story: each log gets so many records, with a rotation in the middle. The vessels are at sea
// meanwhile: what they write is buffered, the rotated files are deleted, and their agents start anew. Receivers lose
// some of their answers. All records must be acknowledged and received, and none twice.
func (d *Demo) Once(ctx context.Context, records int) ([]Row, error) {
	d.say("Writing %d records into each log; files rotate, the vessels are at sea, and answers of receivers are lost",
		records)
	d.Receivers.LoseAnswers(lostEvery)
	errs := make(chan error, 2*len(d.Fleet))
	for _, m := range d.Fleet {
		go func() { errs <- m.Write(ctx, records, 2*time.Millisecond) }()
	}
	for _, m := range d.Fleet {
		m.Depart()
	}
	var all error
	for range d.Fleet {
		all = errors.Join(all, <-errs)
	}
	if all != nil {
		return nil, all
	}
	if err := d.atSea(ctx); err != nil {
		return nil, err
	}
	d.Receivers.LoseAnswers(0)
	var rows []Row
	err := d.wait(ctx, 2*time.Minute, "the numbers to agree", func() (bool, error) {
		var err error
		rows, err = d.rows(ctx)
		return !slices.ContainsFunc(
			rows,
			func(r Row) bool { return !r.Agrees() || strings.Contains(r.State, "offline") },
		), err
	})
	return rows, err
}

// lostEvery is of how many answers of receivers one is lost in the story.
const lostEvery = 25

// atSea deletes the rotated files of the vessels once their agents have read and buffered them, lets the agents start
// anew, and brings the vessels home.
func (d *Demo) atSea(ctx context.Context) error {
	for _, m := range d.Fleet {
		if len(m.links) == 0 {
			continue
		}
		buffered := int64(0)
		for _, l := range m.Logs {
			if l.Source == "" {
				continue
			}
			if err := d.wait(ctx, time.Minute, m.Name+" to buffer what it wrote", func() (bool, error) {
				read, onDisk := m.Read(l.Source)
				buffered = onDisk
				return read == m.Written(l.Source) && onDisk > 0, nil
			}); err != nil {
				return err
			}
			old, err := filepath.Glob(filepath.Join(m.LogRoot(), l.Path) + ".*")
			if err != nil {
				return err
			}
			for _, path := range old {
				if err := os.Remove(path); err != nil {
					return err
				}
			}
		}
		m.Stop()
		if err := m.Start(context.WithoutCancel(ctx)); err != nil {
			return err
		}
		d.say("%s is at sea: %d records wait on its disk, its rotated files are deleted, its agent has started anew",
			m.Name, buffered)
		m.Arrive()
	}
	return nil
}

// Books tells what the books of the whole fleet do not account for, and how many records came twice at the receivers
// and were known by their ids.
func (d *Demo) Books(ctx context.Context) (off, known int64, err error) {
	b, err := answer[contract.Books](d.client.GetBooks(ctx, nil))
	return b.Off, d.Receivers.Known(), err
}

func (d *Demo) rows(ctx context.Context) ([]Row, error) {
	var rows []Row
	for _, m := range d.Fleet {
		h, err := answer[contract.Host](d.client.GetHost(ctx, m.Name))
		if err != nil {
			return nil, err
		}
		row := Row{Host: m.Name, State: string(h.Verdict.State)}
		var sources []string
		for _, s := range h.Sources {
			sources = append(sources, s.Name)
			row.Acknowledged += s.Numbers.Acknowledged
			row.Dropped += s.Numbers.Dropped
			row.Masked += s.Numbers.Masked
			row.Written += m.Written(s.Name)
			row.add(d, m, s.Name)
			if s.Verdict.State != contract.Healthy {
				row.State = fmt.Sprintf("%s (%s)", s.Verdict.State, s.Name)
			}
		}
		row.Sources = strings.Join(sources, ", ")
		rows = append(rows, row)
	}
	return rows, nil
}

// add counts what was received of a source: the least of its destinations, since each must have all.
func (row *Row) add(d *Demo, m *Running, source string) {
	i := slices.IndexFunc(m.Logs, func(l Log) bool { return l.Source == source })
	if i < 0 {
		return
	}
	least := int64(-1)
	for _, to := range m.Logs[i].Goes {
		distinct, all := d.Receivers.Distinct(Flow{to, m.Name, source})
		if to == "desk-journal" {
			distinct, all = journal(filepath.Join(m.LogRoot(), "journal", "journal.ndjson"), m.Name, source)
		}
		row.Duplicates += int64(all - distinct)
		if least < 0 || int64(distinct) < least {
			least = int64(distinct)
		}
	}
	row.Received += least
}

// journal counts the records in the file destination.
func journal(path, host, source string) (distinct, all int) {
	text, err := os.ReadFile(path)
	if err != nil {
		return 0, 0
	}
	r := &Receivers{ids: map[Flow]map[string]int{}, seen: map[string]bool{}}
	if r.lines("desk-journal", text) != nil {
		return 0, 0
	}
	return r.Distinct(Flow{"desk-journal", host, source})
}

// Live lets the ferry line go on: all logs are written at their pace, and a vessel is at sea now and then.
func (d *Demo) Live(ctx context.Context) {
	d.Receivers.Refuse()
	for _, m := range d.Fleet {
		m.Live(ctx, d.o.Log)
	}
	var vessels []*Running
	for _, m := range d.Fleet {
		if m.Role == "vessel" {
			vessels = append(vessels, m)
		}
	}
	for i := 0; ; i++ {
		m := vessels[i%len(vessels)]
		select {
		case <-ctx.Done():
			return
		case <-time.After(20 * time.Second):
			m.Depart()
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(25 * time.Second):
			m.Arrive()
		}
	}
}
