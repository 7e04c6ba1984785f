package fleetsim

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"synaxis/internal/contract"
	"synaxis/internal/core/rollout"
)

// Simulation is a large fleet of light hosts, and the built service in a process of its own.
type Simulation struct {
	Options SimulationOptions
	hosts   []*Light
	dir     string
	service *exec.Cmd
	address string
	token   string
	client  *contract.Client
	n       int // how many revisions were published
}

// SimulationOptions say how large it is.
type SimulationOptions struct {
	Hosts  int
	Kills  int
	Report time.Duration
	Rest   time.Duration // how long the fleet is watched at rest
	Bin    string        // the folder of the built programs
	Out    io.Writer
}

// Measure is one row of what a simulation showed.
type Measure struct {
	What, Aim, Seen string
	Met             bool
}

// Simulate goes through everything, and tells each row as it comes.
func Simulate(ctx context.Context, o SimulationOptions, tell func(Measure)) (err error) {
	s := &Simulation{Options: o}
	if s.dir, err = os.MkdirTemp(inMemory(), "synaxis-simulate-"); err != nil {
		return err
	}
	defer os.RemoveAll(s.dir)
	if err := s.start(ctx, "127.0.0.1:0"); err != nil {
		return err
	}
	defer s.kill()
	defer s.stopHosts()
	for _, step := range []func(context.Context, func(Measure)) error{
		s.join, s.good, s.rest, s.bad, s.kills, s.restart, s.away, s.oddHosts,
	} {
		if err := step(ctx, tell); err != nil {
			return err
		}
	}
	return nil
}

// inMemory is a folder in memory, where there is one, since a fleet writes as many identities as it has hosts.
func inMemory() string {
	if info, err := os.Stat("/dev/shm"); err == nil && info.IsDir() {
		return "/dev/shm"
	}
	return ""
}

var listening = regexp.MustCompile(`http://[0-9.:]+`)

// start starts the service.
func (s *Simulation) start(ctx context.Context, listen string) error {
	s.service = exec.Command(filepath.Join(s.Options.Bin, "synaxisd"), "--data", filepath.Join(s.dir, "service"),
		"--listen", listen)
	out, err := s.service.StderrPipe()
	if err != nil {
		return err
	}
	if err := s.service.Start(); err != nil {
		return err
	}
	address := ""
	for lines := bufio.NewScanner(out); address == "" && lines.Scan(); {
		if strings.Contains(lines.Text(), "msg=listening") {
			address = listening.FindString(lines.Text())
		}
	}
	go func() { _, _ = io.Copy(io.Discard, out) }()
	token, err := os.ReadFile(filepath.Join(s.dir, "service", "admin.token"))
	if err != nil || address == "" {
		return fmt.Errorf("the service did not start: %w", err)
	}
	s.address, s.token = address, strings.TrimSpace(string(token))
	fresh := &http.Client{Transport: &http.Transport{DisableKeepAlives: true}} // the service may be killed at any time
	s.client, err = contract.NewClient(s.address+"/api/v1", contract.WithHTTPClient(fresh),
		contract.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
			r.Header.Set("Authorization", "Bearer "+s.token)
			return nil
		}))
	return err
}

func (s *Simulation) kill() {
	if s.service != nil && s.service.Process != nil {
		_ = s.service.Process.Kill()
		_ = s.service.Wait()
	}
}

// again kills the service and starts it at the same address.
func (s *Simulation) again(ctx context.Context) error {
	s.kill()
	return s.start(ctx, strings.TrimPrefix(s.address, "http://"))
}

func (s *Simulation) stopHosts() {
	var all sync.WaitGroup
	for _, h := range s.hosts {
		h.stop()
	}
	for _, h := range s.hosts {
		all.Go(func() { <-h.done })
	}
	all.Wait()
}

// until waits for something, and tells how long it took.
func (s *Simulation) until(ctx context.Context, most time.Duration, what string, done func() (bool, error)) (
	time.Duration, error,
) {
	began := time.Now()
	for {
		ok, err := done()
		took := time.Since(began)
		switch {
		case ctx.Err() != nil:
			return took, ctx.Err()
		case ok && err == nil:
			return took, nil
		case took > most:
			return took, fmt.Errorf("waited %s for %s: %w", took.Round(time.Second), what, errors.Join(err))
		}
		time.Sleep(100 * time.Millisecond)
	}
}

// memory is what the service holds, and cpu the time that it has used.
func (s *Simulation) memory() (bytes int64) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", s.service.Process.Pid))
	if err != nil {
		return 0
	}
	for line := range strings.Lines(string(text)) {
		if rest, ok := strings.CutPrefix(line, "VmRSS:"); ok {
			bytes, _ = strconv.ParseInt(strings.Fields(rest)[0], 10, 64)
		}
	}
	return bytes * 1024
}

func (s *Simulation) cpu() time.Duration {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", s.service.Process.Pid))
	if err != nil {
		return 0
	}
	f := strings.Fields(string(text[strings.LastIndexByte(string(text), ')')+1:]))
	user, _ := strconv.ParseInt(f[11], 10, 64)
	system, _ := strconv.ParseInt(f[12], 10, 64)
	return time.Duration(user+system) * 10 * time.Millisecond
}

func (s *Simulation) join(ctx context.Context, tell func(Measure)) error {
	any := 0
	t, err := answer[contract.CreatedJoinToken](s.client.CreateJoinToken(ctx, contract.NewJoinToken{Uses: &any}))
	if err != nil {
		return err
	}
	empty := s.memory()
	for i := range s.Options.Hosts {
		h, err := NewLight(fmt.Sprintf("host-%05d", i), LightOptions{Service: s.address, JoinToken: t.Token,
			Dir: filepath.Join(s.dir, "hosts"), Report: s.Options.Report})
		if err != nil {
			return err
		}
		s.hosts = append(s.hosts, h)
	}
	for _, h := range s.hosts {
		h.Start()
	}
	took, err := s.until(ctx, 3*time.Minute, "all to join", func() (bool, error) {
		n, err := s.links(ctx)
		return n == s.Options.Hosts, err
	})
	if err != nil {
		return err
	}
	each := (s.memory() - empty) / int64(s.Options.Hosts)
	tell(Measure{"joined over WebSocket", "50 s; under 60 kB each", fmt.Sprintf("%.1f s; %d kB each", took.Seconds(),
		each/1000), took <= 50*time.Second && each <= 60_000})
	return nil
}

// publish publishes a revision whose hosts read one source, with something in it that tells it from others.
func (s *Simulation) publish(ctx context.Context, note string) (part string, err error) {
	s.n++
	part = fmt.Sprintf("revision-%d-%s", s.n, note)
	var text strings.Builder
	fmt.Fprintf(&text, "source: lines\nhosts: all\nread: {files: [\"/var/log/${host.name}/*.log\"]}\nformat: raw\n"+
		"labels: {sim: %s}\nsteps:\n", part)
	for i := range 90 { // about 10 kB
		fmt.Fprintf(&text,
			"  - set: {field-%02d: '\"a value that makes the config of a host as long as real ones are\"'}\n", i)
	}
	text.WriteString("send: [out]\n---\ndestination: out\ndeliver: {discard: {}}\n")
	d, err := answer[contract.Draft](s.client.LoadDraft(ctx, contract.NewDraft{Whole: true,
		Files: []contract.File{{Path: "all.yaml", Text: text.String()}}}))
	if err != nil {
		return "", err
	}
	_, err = answer[contract.Published](s.client.PublishDraft(ctx, d.Id, contract.Publication{}))
	return part, err
}

// run brings the newest revision to all, and waits for the end.
func (s *Simulation) run(ctx context.Context, plan string, most time.Duration) (contract.Rollout, time.Duration,
	error) {
	began := time.Now()
	r, err := answer[contract.Rollout](s.client.StartRollout(ctx, contract.NewRollout{Plan: &plan}))
	if err != nil {
		return r, 0, err
	}
	if _, err := s.ended(ctx, r.Id, most); err != nil {
		return r, 0, err
	}
	took := time.Since(began)
	r, err = answer[contract.Rollout](s.client.GetRollout(ctx, r.Id))
	return r, took, err
}

func (s *Simulation) ended(ctx context.Context, id int, most time.Duration) (time.Duration, error) {
	return s.until(ctx, most, fmt.Sprintf("rollout %d to end", id), func() (bool, error) {
		l, err := answer[contract.RolloutList](s.client.ListRollouts(ctx))
		for _, r := range l.Items {
			if r.Id == id {
				return r.State == contract.RolloutSummaryStateDone ||
					r.State == contract.RolloutSummaryStateStopped, err
			}
		}
		return false, err
	})
}

// all tells how many hosts do not run a revision, and how often hosts were offered a config again that they had.
func (s *Simulation) all(part string) (missing, again int) {
	for _, h := range s.hosts {
		runs, n := h.Runs(part)
		if !runs {
			missing++
		}
		again += n
	}
	return missing, again
}

func (s *Simulation) good(ctx context.Context, tell func(Measure)) error {
	part, err := s.publish(ctx, "good")
	if err != nil {
		return err
	}
	r, took, err := s.run(ctx, "one-wave", 3*time.Minute)
	if err != nil {
		return err
	}
	missing, _ := s.all(part)
	tell(Measure{"a good revision of 10 kB to all, one wave", "20 s from start to all confirmed",
		fmt.Sprintf("%.1f s, %d confirmed", took.Seconds(), r.Counts["confirmed"]),
		took <= 20*time.Second && missing == 0 && r.Counts["confirmed"] == s.Options.Hosts})
	return nil
}

func (s *Simulation) rest(ctx context.Context, tell func(Measure)) error {
	time.Sleep(20 * time.Second) // what a rollout leaves behind is cleaned up in 10 s
	before := s.cpu()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(s.Options.Rest):
	}
	share := 100 * float64(s.cpu()-before) / float64(s.Options.Rest)
	tell(Measure{fmt.Sprintf("at rest, reports every %s", s.Options.Report), "3 % of a core",
		fmt.Sprintf("%.1f %%", share), share <= 3})
	var took []time.Duration
	for range 40 {
		began := time.Now()
		if _, err := answer[contract.Status](s.client.GetStatus(ctx)); err != nil {
			return err
		}
		took = append(took, time.Since(began))
		time.Sleep(50 * time.Millisecond)
	}
	slow := p95(took)
	tell(Measure{"what the morning page asks, at rest", "p95 under 100 ms", fmt.Sprintf("%d ms", slow.Milliseconds()),
		slow < 100*time.Millisecond})
	return nil
}

func (s *Simulation) bad(ctx context.Context, tell func(Measure)) error {
	if _, err := s.publish(ctx, Unreadable); err != nil {
		return err
	}
	began := time.Now()
	r, _, err := s.run(ctx, "usual", 5*time.Minute)
	if err != nil {
		return err
	}
	if r.State != contract.RolloutStateStopped || r.TakenBackBy == nil {
		return fmt.Errorf("a revision that reads nothing is %s", r.State)
	}
	if _, err := s.ended(ctx, *r.TakenBackBy, time.Minute); err != nil {
		return err
	}
	saw, runs := 0, 0
	for _, h := range s.hosts {
		if h.Saw(Unreadable) {
			saw++
		}
		if bad, _ := h.Runs(Unreadable); bad {
			runs++
		}
	}
	tell(Measure{"a bad revision, the usual plan", "stopped after the first wave, taken back; no other host saw it",
		fmt.Sprintf("after %.1f s; %d host saw it, %d run it", time.Since(began).Seconds(), saw, runs), saw == 1 &&
			runs == 0})
	return nil
}

func (s *Simulation) kills(ctx context.Context, tell func(Measure)) error {
	left := 0
	for range s.Options.Kills {
		part, err := s.publish(ctx, "kill")
		if err != nil {
			return err
		}
		plan := "one-wave"
		r, err := answer[contract.Rollout](s.client.StartRollout(ctx, contract.NewRollout{Plan: &plan}))
		if err != nil {
			return err
		}
		time.Sleep(rand.N(2 * time.Second))
		if err := s.again(ctx); err != nil {
			return err
		}
		if _, err := s.ended(ctx, r.Id, 3*time.Minute); err != nil {
			return err
		}
		if _, err := s.until(ctx, 3*time.Minute, "all to run it", func() (bool, error) {
			missing, _ := s.all(part)
			return missing == 0, nil
		}); err != nil {
			missing, _ := s.all(part)
			left += missing
		}
	}
	_, twice := s.all("")
	tell(Measure{fmt.Sprintf("the service killed in %d rollouts", s.Options.Kills),
		"goes on; no host gets a config twice, none is left",
		fmt.Sprintf("%d left, %d got a config twice", left, twice), left == 0 && twice == 0})
	return nil
}

func (s *Simulation) restart(ctx context.Context, tell func(Measure)) error {
	before := s.memory()
	if err := s.again(ctx); err != nil {
		return err
	}
	var slow []time.Duration
	took, err := s.until(ctx, 3*time.Minute, "all to come back", func() (bool, error) {
		began := time.Now()
		limit := 100
		l, err := answer[contract.HostList](s.client.ListHosts(ctx, &contract.ListHostsParams{Limit: &limit}))
		slow = append(slow, time.Since(began))
		if err != nil || len(l.Items) == 0 {
			return false, err
		}
		n, err := s.links(ctx)
		return n == s.Options.Hosts, err
	})
	if err != nil {
		return err
	}
	p95 := p95(slow)
	times := float64(s.memory()) / float64(before)
	tell(Measure{"restart of the service", "all back in 40 s; memory under 1.5 times; API p95 under 300 ms",
		fmt.Sprintf("%.1f s; %.2f times; %d ms", took.Seconds(), times, p95.Milliseconds()),
		took <= 40*time.Second && times < 1.5 && p95 < 300*time.Millisecond})
	return nil
}

// p95 is what all but five in a hundred stay below.
func p95(of []time.Duration) time.Duration {
	slices.Sort(of)
	return of[len(of)*95/100]
}

// links is how many agents are connected.
func (s *Simulation) links(ctx context.Context) (int, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, s.address+"/metrics", nil)
	if err != nil {
		return 0, err
	}
	req.Header.Set("Authorization", "Bearer "+s.token)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return 0, err
	}
	defer resp.Body.Close()
	for lines := bufio.NewScanner(resp.Body); lines.Scan(); {
		if rest, ok := strings.CutPrefix(lines.Text(), "synaxis_hosts_connected "); ok {
			n, err := strconv.ParseFloat(strings.TrimSpace(rest), 64)
			return int(n), err
		}
	}
	return 0, errors.New("the metrics do not tell how many agents are connected")
}

func (s *Simulation) away(ctx context.Context, tell func(Measure)) error {
	gone := s.hosts[:s.Options.Hosts/10]
	for _, h := range gone {
		h.stop()
	}
	for _, h := range gone {
		<-h.done
	}
	if _, err := s.until(ctx, time.Minute, "some to be away", func() (bool, error) {
		n, err := s.links(ctx)
		return n == s.Options.Hosts-len(gone), err
	}); err != nil {
		return err
	}
	part, err := s.publish(ctx, "away")
	if err != nil {
		return err
	}
	r, _, err := s.run(ctx, "one-wave", 3*time.Minute)
	if err != nil {
		return err
	}
	for _, h := range gone {
		h.Start()
	}
	took, err := s.until(ctx, 3*time.Minute, "those that were away to catch up", func() (bool, error) {
		missing, _ := s.all(part)
		return missing == 0, nil
	})
	if err != nil {
		return err
	}
	tell(Measure{fmt.Sprintf("%d hosts away, back after it is done", len(gone)), "each right within 30 s",
		fmt.Sprintf("%s with %d deferred; all right %.1f s after the first came back", r.State, r.Counts["deferred"],
			took.Seconds()), took <= 30*time.Second && r.Counts["deferred"] == len(gone)})
	return nil
}

// oddHosts lets some hosts lie, keep silent and flood while all others take a revision.
func (s *Simulation) oddHosts(ctx context.Context, tell func(Measure)) error {
	each := max(1, s.Options.Hosts/100)
	odd := s.hosts[:3*each]
	for i, h := range odd {
		h.Be([]Odd{Lies, Silent, Floods}[i/each])
	}
	part, err := s.publish(ctx, "odd")
	if err != nil {
		return err
	}
	plan := "one-wave"
	r, err := answer[contract.Rollout](s.client.StartRollout(ctx, contract.NewRollout{Plan: &plan}))
	if err != nil {
		return err
	}
	watching, end := context.WithCancel(ctx)
	defer end()
	looked, err := s.look(watching, "/status", "/rollouts", fmt.Sprintf("/rollouts/%d", r.Id), "/hosts?limit=100")
	if err != nil {
		return err
	}
	took, err := s.until(ctx, 3*time.Minute, "the others to run it", func() (bool, error) {
		for _, h := range s.hosts[2*each:] { // those that flood take it too
			if runs, _ := h.Runs(part); !runs {
				return false, nil
			}
		}
		return true, nil
	})
	if err != nil {
		return err
	}
	if _, err := s.until(ctx, time.Minute, "the others to be confirmed", func() (bool, error) {
		r, err = answer[contract.Rollout](s.client.GetRollout(ctx, r.Id))
		return r.Counts["confirmed"] >= s.Options.Hosts-2*each, err
	}); err != nil {
		return err
	}
	believed := 0
	wrong := map[string]bool{}
	for _, h := range odd[:2*each] {
		wrong[h.Name] = true
	}
	for _, h := range r.Hosts {
		if wrong[h.Host] && h.State == string(rollout.Confirmed) {
			believed++
		}
	}
	time.Sleep(2*time.Second - took) // a small fleet is done before there are answers enough
	slow, err := looked()
	if err != nil {
		return err
	}
	p95 := p95(slow)
	tell(Measure{fmt.Sprintf("%d hosts lie, %d are silent, %d flood", each, each, each),
		"all others right in 20 s, none of them believed; API p95 under 300 ms",
		fmt.Sprintf("%.1f s; %d believed; %d ms", took.Seconds(), believed, p95.Milliseconds()),
		took <= 20*time.Second && believed == 0 && p95 < 300*time.Millisecond})
	return nil
}
