package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/check"
	"synaxis/internal/core/hostconfig"
	"synaxis/internal/core/inventory"
	"synaxis/internal/core/mask"
	"synaxis/internal/core/render"
)

// The bounds that 10,000 hosts with 200 definitions must keep.
const (
	coldAim  = 2500 * time.Millisecond
	fewAim   = 30 * time.Millisecond
	allAim   = 500 * time.Millisecond
	checkAim = 3 * time.Second
	pageAim  = 50 * time.Millisecond
)

// fleetHosts makes hosts in 20 sites, with 10 roles, in racks of 100.
func fleetHosts(n int) []inventory.Host {
	seen := &inventory.Observed{Parts: hostconfig.Runs, LowPorts: true, FreeDisk: 10 << 30}
	hosts := make([]inventory.Host, n)
	for i := range hosts {
		hosts[i] = inventory.Host{
			Name:     fmt.Sprintf("host-%05d", i),
			OS:       "linux",
			Arch:     "amd64",
			Observed: seen,
			Settings: map[string]string{"shelf": fmt.Sprintf("/srv/%d", i%50)},
			Labels: map[string]string{
				"site":   fmt.Sprintf("site-%d", i%20),
				"role":   fmt.Sprintf("role-%d", i/20%10),
				"rack":   fmt.Sprintf("rack-%d", i/100),
				"serial": fmt.Sprintf("sn-%d", i),
			},
		}
	}
	return hosts
}

// fleetCatalogue is 200 definitions.
func fleetCatalogue() map[string]string {
	defs := map[string]string{}
	put := func(name, text string, args ...any) { defs[name] = fmt.Sprintf(text, args...) }
	for i := range 12 {
		put(
			fmt.Sprintf("f%d", i),
			"format: format-%d\ntemplate: '{ts:time} lane={lane:int} result={result:token} {note:remainder}'\ntime: "+
				"{field: ts, layout: '%%Y-%%m-%%d %%H:%%M:%%S', zone: Europe/Lisbon}\nsamples: [{line: '2031-04-02 "+
				"06:15:09 lane=4 result=OK x', gives: {lane: 4}}]\n",
			i,
		)
	}
	for i := range 8 {
		put(
			fmt.Sprintf("d%d", i),
			"destination: dest-%d\ndeliver: {http: {url: \"http://${label.site}.example/in\"}}\ntakes: {lane: int}\n",
			i,
		)
	}
	for i := range 20 {
		put(
			fmt.Sprintf("s%d", i),
			"settings: site-%d\nhosts: {site: site-%d}\nrank: 1\nvalues: {root: /var/log/%d, zone: UTC}\n",
			i,
			i,
			i,
		)
	}
	for i := range 10 {
		put(
			fmt.Sprintf("r%d", i),
			"settings: role-%d\nhosts: {role: role-%d}\nrank: 2\nvalues: {app: app%d}\n",
			i,
			i,
			i,
		)
	}
	for i := range 6 {
		put(fmt.Sprintf("k%d", i), "label-key: key-%d\n", i)
	}
	for i := range 4 {
		put(fmt.Sprintf("m%d", i), "mask: mask-%d\nfind: 'PA%d\\d{6}'\nsamples: {hits: ['PA%d123456']}\n", i, i, i)
	}
	source := func(i int, hosts string) {
		put(
			fmt.Sprintf("src%d", i),
			"source: source-%d\nlabels: {team: team-%d}\nhosts: %s\nread: {files: "+
				"[\"${setting.root}/${setting.app}/part-%d/*.log\", \"${setting.shelf}/part-%d.log\"], except: "+
				"[\"*.tmp\"]}\nformat: format-%d\nsend: [dest-%d, dest-%d]\n",
			i,
			i%7,
			hosts,
			i,
			i,
			i%12,
			i%8,
			(i+3)%8,
		)
	}
	for i := range 140 {
		switch {
		case i < 20:
			source(i, "all")
		case i < 80:
			source(i, fmt.Sprintf("{role: role-%d}", i%10))
		case i < 120:
			source(
				i,
				fmt.Sprintf(
					"labels.role == \"role-%d\" && labels.site in [\"site-%d\", \"site-%d\"]",
					i%10,
					i%20,
					(i+1)%20,
				),
			)
		default:
			source(i, fmt.Sprintf("{rack: rack-%d}", i%9))
		}
	}
	return defs
}

// editor keeps a catalogue as a person's desk does: what is not edited is not read again.
type editor struct {
	defs    map[string]*catalogue.Definition
	changed map[catalogue.ID]int
}

func (e *editor) put(key, text string) error {
	defs, problems := catalogue.Parse(key+".yaml", []byte(text))
	if len(problems) > 0 {
		return problems[0]
	}
	e.defs[key] = defs[0]
	return nil
}

func (e *editor) input() (render.Input, error) {
	list := make([]*catalogue.Definition, 0, len(e.defs))
	for _, d := range e.defs {
		list = append(list, d)
	}
	cat, problems := catalogue.New(list)
	if len(problems) > 0 {
		return render.Input{}, problems[0]
	}
	return render.Input{Catalogue: cat, Changed: e.changed}, nil
}

// measured is one row of the table.
type measured struct {
	hosts                        int
	cold, few, label, all, check time.Duration
	memory                       uint64
}

// fleetRow measures a fleet of n hosts. Each number is the median of five, and each result is looked at.
func fleetRow(n int, texts map[string]string) (measured, error) {
	hosts := fleetHosts(n)
	e := &editor{defs: map[string]*catalogue.Definition{}, changed: map[catalogue.ID]int{}}
	for key, text := range texts {
		if err := e.put(key, text); err != nil {
			return measured{}, err
		}
	}
	in, err := e.input()
	if err != nil {
		return measured{}, err
	}
	if len(in.Catalogue.All()) != 200 {
		return measured{}, fmt.Errorf("the catalogue has %d definitions", len(in.Catalogue.All()))
	}
	out := measured{hosts: n}
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	var fleet *render.Fleet
	if out.cold, err = median(3, func(int) error {
		fleet = render.NewFleet(in, inventory.NewIndex(hosts))
		if got := len(fleet.Manifests[0].Sources()); got < 20 {
			return fmt.Errorf("host 0 has %d sources", got)
		}
		return nil
	}); err != nil {
		return out, err
	}
	runtime.GC()
	runtime.ReadMemStats(&after)
	out.memory = after.HeapAlloc - min(before.HeapAlloc, after.HeapAlloc)
	edit := func(key, old, new string, reach int) func(int) error {
		return func(round int) error {
			if err := e.put(key, strings.Replace(texts[key], old, fmt.Sprintf(new, round), 1)); err != nil {
				return err
			}
			in, err := e.input()
			if err != nil {
				return err
			}
			next, reached := fleet.With(in)
			changed := 0
			for i := range next.Manifests {
				if next.Manifests[i].Hash != fleet.Manifests[i].Hash {
					changed++
				}
			}
			if changed != reach || reached.Len() != reach {
				return fmt.Errorf(
					"the edit of %s changed %d hosts and reached %d, not %d",
					key,
					changed,
					reached.Len(),
					reach,
				)
			}
			fleet = next
			return nil
		}
	}
	if out.few, err = median(5, edit("src121", "*.tmp", "*.tmp%d", 100)); err != nil {
		return out, err
	}
	if out.all, err = median(5, edit("src3", "*.tmp", "*.tmp%d", n)); err != nil {
		return out, err
	}
	if out.label, err = median(5, func(round int) error { // of 100 hosts
		others := map[int]inventory.Host{}
		for i := range 100 {
			h := hosts[i*(n/100)]
			h.Settings = map[string]string{"shelf": fmt.Sprintf("/shelf/%d", round)}
			others[i*(n/100)] = h
		}
		next, reached := fleet.WithHosts(fleet.Index.Edit(others))
		if reached.Len() != 100 {
			return fmt.Errorf("the edit of 100 hosts reached %d", reached.Len())
		}
		fleet = next
		return nil
	}); err != nil {
		return out, err
	}
	in = fleet.Input()
	out.check, err = median(3, func(int) error {
		found := check.Run(
			in.Catalogue,
			check.World{
				Fleet:  fleet,
				Before: in.Catalogue,
				Cost:   func(m mask.Spec) time.Duration { return mask.Measure(m, time.Now) },
			},
		)
		if check.HasErrors(found) {
			return fmt.Errorf("%s: %s", found[0].Code, found[0].Reason)
		}
		return nil
	})
	return out, err
}

// median runs something some times and returns the median of what it took.
func median(times int, f func(round int) error) (time.Duration, error) {
	var all []time.Duration
	for i := range times {
		runtime.GC()
		began := time.Now()
		if err := f(i); err != nil {
			return 0, err
		}
		all = append(all, time.Since(began))
	}
	slices.Sort(all)
	return all[len(all)/2], nil
}

// fleetTable measures fleets of three sizes, and tells how many bounds were missed.
func fleetTable() (missed int, err error) {
	texts := fleetCatalogue()
	t := newTable(
		table.Row{"hosts", "cold", "an edit of 100", "labels of 100", "an edit of all", "full check", "memory"},
	)
	for _, n := range []int{1000, 10_000, 50_000} {
		m, err := fleetRow(n, texts)
		if err != nil {
			return missed, err
		}
		within := func(took, aim time.Duration) string {
			s := took.Round(100 * time.Microsecond).String()
			if n != 10_000 {
				return s
			}
			if took > aim {
				missed++
				return s + " (missed " + aim.String() + ")"
			}
			return s + " (met " + aim.String() + ")"
		}
		t.AppendRow(
			table.Row{
				show(float64(n)),
				within(m.cold, coldAim),
				within(m.few, fewAim),
				m.label.Round(100 * time.Microsecond),
				within(m.all, allAim),
				within(m.check, checkAim),
				fmt.Sprintf("%d MiB", m.memory>>20),
			},
		)
	}
	fmt.Printf("\n200 definitions for fleets of three sizes\n\n")
	t.Render()
	took, err := hostPages(10_000, 300)
	if err != nil {
		return missed, err
	}
	verdict := "met"
	if took > pageAim {
		verdict, missed = "missed", missed+1
	}
	fmt.Printf(
		"\na page of 100 of 10,000 hosts over the API, 95th percentile: %s (%s %s)\n",
		took.Round(100*time.Microsecond),
		verdict,
		pageAim,
	)
	return missed, nil
}

var listensOn = regexp.MustCompile(`https?://[0-9.:]+`)

// hostPages lists hosts of a real service, page by page, and returns the 95th percentile of the answers.
func hostPages(hosts, calls int) (time.Duration, error) {
	bin := os.Getenv("SYNAXIS_BIN")
	if bin == "" {
		bin = "bin"
	}
	dir, err := os.MkdirTemp("", "synaxis-bench-")
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(dir)
	ctx, stop := context.WithTimeout(context.Background(), 2*time.Minute)
	defer stop()
	cmd := exec.CommandContext(ctx, filepath.Join(bin, "synaxisd"), "--data", dir, "--listen", "127.0.0.1:0")
	out, err := cmd.StderrPipe()
	if err != nil {
		return 0, err
	}
	if err := cmd.Start(); err != nil {
		return 0, err
	}
	defer func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }()
	address := ""
	for lines := bufio.NewScanner(out); address == "" && lines.Scan(); {
		if strings.Contains(lines.Text(), "msg=listening") {
			address = listensOn.FindString(lines.Text())
		}
	}
	go func() { _, _ = io.Copy(io.Discard, out) }()
	token, err := os.ReadFile(filepath.Join(dir, "admin.token"))
	if err != nil || address == "" {
		return 0, fmt.Errorf("the service did not start: %v", err)
	}
	call := func(method, path string, body any) ([]byte, error) {
		text, err := json.Marshal(body)
		if err != nil {
			return nil, err
		}
		req, err := http.NewRequestWithContext(ctx, method, address+"/api/v1"+path, bytes.NewReader(text))
		if err != nil {
			return nil, err
		}
		req.Header.Set("Authorization", "Bearer "+strings.TrimSpace(string(token)))
		req.Header.Set("Content-Type", "application/json")
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			return nil, err
		}
		defer resp.Body.Close()
		answer, err := io.ReadAll(resp.Body)
		if err == nil && resp.StatusCode != http.StatusOK {
			err = fmt.Errorf("%s %s: %s: %s", method, path, resp.Status, answer)
		}
		return answer, err
	}
	var list bytes.Buffer
	if err := inventory.WriteCSV(&list, fleetHosts(hosts)); err != nil {
		return 0, err
	}
	if _, err := call(http.MethodPost, "/inventory", map[string]any{"file": "hosts.csv",
		"text": list.String()}); err != nil {
		return 0, err
	}
	var all []time.Duration
	seen, after := map[string]bool{}, ""
	for range calls {
		began := time.Now()
		answer, err := call(http.MethodGet, "/hosts?limit=100&after="+after, nil)
		if err != nil {
			return 0, err
		}
		all = append(all, time.Since(began))
		var page struct {
			Items []struct{ Name string }
			Next  *string
		}
		if err := json.Unmarshal(answer, &page); err != nil || len(page.Items) != 100 {
			return 0, fmt.Errorf("a page has %d hosts: %w", len(page.Items), err)
		}
		for _, h := range page.Items {
			seen[h.Name] = true
		}
		if after = ""; page.Next != nil {
			after = *page.Next
		}
	}
	if len(seen) != hosts {
		return 0, fmt.Errorf("the pages hold %d hosts", len(seen))
	}
	slices.Sort(all)
	return all[len(all)*95/100], nil
}
