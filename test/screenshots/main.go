// Command screenshots makes the pictures of docs/screenshots from the demo's data: the console's pages, and what the
// command line prints. It needs Chromium.
package main

import (
	"bytes"
	"context"
	"fmt"
	"html"
	"image"
	"image/draw"
	"image/png"
	"io"
	"log"
	"log/slog"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"
	_ "time/tzdata"

	"synaxis/internal/cli"
	"synaxis/internal/fleetsim"
	"synaxis/test/browser"
)

func main() {
	out := "docs/screenshots"
	if len(os.Args) > 1 {
		out = os.Args[1]
	}
	if err := run(out); err != nil {
		log.Fatal(err)
	}
}

const change = `# Boarding gates: denied tickets are an error now.
format: gate-scan
template: '{ts:time} lane={lane:int} ticket={ticket:token} doc={doc:token} result={result:token} id={id:token} took={ms:int}ms'
time: {field: ts, layout: '%Y-%m-%d %H:%M:%S.%f'}
level: {field: result, map: {DENIED: ERROR, FAULT: ERROR, '*': INFO}}
samples:
  - {line: '2031-04-02 06:15:09.120 lane=4 ticket=T-20417 doc=none result=DENIED id=x.17 took=48ms', gives: {lane: 4},
	level: ERROR}
`

// shots are the pages, in the order in which they are taken.
var shots = []struct{ name, path, see, theme string }{
	{"morning", "/", "What is wrong", "light"},
	{"hosts", "/hosts", "gate-northpier-1", "light"},
	{"draft-findings", "/changes/2/findings", "path-relative", "light"},
	{"rejects", "/catalogue/destination/harbour-archive/rejects", "column kg", "dark"},
	{"editor", "/changes/2/edit/source/crane-log", "is not an absolute path", "light"},
}

func run(out string) error {
	ctx, stop := context.WithTimeout(context.Background(), 6*time.Minute)
	defer stop()
	dir, err := os.MkdirTemp("", "synaxis-shots-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	d, err := fleetsim.Start(
		ctx,
		fleetsim.Options{
			Dir:    filepath.Join(dir, "demo"),
			Listen: "127.0.0.1:0",
			Log:    slog.New(slog.DiscardHandler),
			Out:    os.Stdout,
		},
	)
	if err != nil {
		return err
	}
	defer d.Close()
	if _, err := d.Once(ctx, 400); err != nil {
		return err
	}
	token, err := d.Token()
	if err != nil {
		return err
	}
	os.Setenv("SYNAXIS_URL", d.URL())
	os.Setenv("SYNAXIS_TOKEN", token)
	for name, text := range map[string]string{"gates.yaml": change, "again.yaml": strings.Replace(strings.Replace(
		change, "FAULT: ERROR", "FAULT: WARN", 1), "denied tickets are an error now",
		"a fault is somebody else's to mend", 1)} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			return err
		}
	}
	for _, args := range [][]string{
		{"draft", "load", filepath.Join(dir, "gates.yaml"), "--title", "Denied tickets are errors"},
		{"draft", "load", filepath.Join(dir, "again.yaml"), "--title", "Faults are warnings"},
		{"secret", "grant", "archive_token", "--to", "Ines, harbour archive"},
		{"host", "set", "gauge-northpier", "zone=Europe/Lisbon"},
		{"host", "label", "kiosk-gull-point-1", "printer=none"},
	} {
		if code := cli.Run(ctx, args, strings.NewReader(""), io.Discard, os.Stderr); code != 0 {
			return fmt.Errorf("synaxis %s: exit %d", strings.Join(args, " "), code)
		}
	}
	for _, m := range d.Fleet {
		if m.Name == "petrel" {
			m.Stop()
		}
	}
	if err := trouble(ctx, d); err != nil {
		return err
	}
	if err := os.MkdirAll(out, 0o755); err != nil {
		return err
	}
	tabCtx, end, err := browser.New(ctx, 1280, 800)
	if err != nil {
		return err
	}
	defer end()
	tab := browser.Tab{Context: tabCtx}
	if err := terminal(ctx, tab, out, dir); err != nil {
		return err
	}
	link, err := d.SignInLink(ctx)
	if err != nil {
		return err
	}
	if err := tab.Open(link); err != nil {
		return err
	}
	if err := tab.See("What is wrong"); err != nil {
		return err
	}
	for _, s := range shots {
		if _, err := tab.Eval(fmt.Sprintf(`localStorage.setItem('synaxis.theme', %q); ''`, s.theme)); err != nil {
			return err
		}
		if err := tab.Open(d.URL() + s.path); err != nil {
			return err
		}
		if err := tab.See(s.see); err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
		time.Sleep(700 * time.Millisecond) // fonts, and numbers that arrive
		if err := keep(tab, filepath.Join(out, s.name+".png")); err != nil {
			return err
		}
	}
	if err := workbench(d, tab, out); err != nil {
		return err
	}
	if err := rolling(ctx, d, tab, out); err != nil {
		return err
	}
	return large(ctx, tab, out)
}

// large pictures the first page of three thousand hosts of which some are not well.
func large(ctx context.Context, tab browser.Tab, out string) error {
	bin := os.Getenv("SYNAXIS_BIN")
	if bin == "" {
		bin = "bin"
	}
	s, err := fleetsim.Large(ctx, fleetsim.SimulationOptions{Hosts: 3000, Report: 5 * time.Second, Bin: bin})
	if err != nil {
		return err
	}
	defer s.Close()
	link, err := s.SignInLink(ctx)
	if err != nil {
		return err
	}
	if err := tab.Open(link); err != nil {
		return err
	}
	if err := tab.See("harbour-archive"); err != nil {
		return err
	}
	time.Sleep(time.Second)
	return keep(tab, filepath.Join(out, "morning-large.png"))
}

// rolling pictures a rollout that waits at its gate, one that was stopped, a trial and a preflight.
func rolling(ctx context.Context, d *fleetsim.Demo, tab browser.Tab, out string) error {
	for _, m := range d.Fleet {
		if m.Name == "petrel" {
			if err := m.Start(context.WithoutCancel(ctx)); err != nil {
				return err
			}
		}
		m.Arrive()
	}
	r, err := d.Rehearse(ctx)
	if err != nil {
		return err
	}
	writing, stop := context.WithCancel(ctx)
	defer stop()
	for _, m := range d.Fleet {
		m.Live(writing, slog.New(slog.DiscardHandler))
	}
	for _, s := range []struct{ name, path, see string }{
		{"peek", "/peek?source=gate-scans", "harbour-archive"},
		{"rollout", fmt.Sprintf("/rollouts/%d", r.Waits), "Gate"}, // below the one that was stopped
		{"flow", "/flow", "gate-scans"},
		{"trial", fmt.Sprintf("/changes/%d/trial", r.Trial), "come out differently"},
		{"preflight", fmt.Sprintf("/changes/%d/preflight", r.Preflight), "not a directory"},
		{"notices", "/notices", "scanner-silent"},
		{"host", "/hosts/gate-gull-point-1/numbers?span=8m", "What changed"},
		{"senders", "/senders?open=127.0.0.37", "Make it known"},
		{"listeners", "/hosts/watch-desk-1", "harbour-radar"},
	} {
		if err := tab.Open(d.URL() + s.path); err != nil {
			return err
		}
		if err := tab.See(s.see); err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
		time.Sleep(map[bool]time.Duration{true: 5 * time.Second, false: 700 * time.Millisecond}[s.name == "peek"])
		if err := keep(tab, filepath.Join(out, s.name+".png")); err != nil {
			return err
		}
	}
	if err := tab.Open(fmt.Sprintf("%s/rollouts/%d", d.URL(), r.Stopped)); err != nil {
		return err
	}
	if err := tab.See("Stopped"); err != nil {
		return err
	}
	time.Sleep(700 * time.Millisecond)
	return above(tab, filepath.Join(out, "rollout.png"))
}

// above puts a picture of what is shown above one that was kept.
func above(tab browser.Tab, path string) error {
	shown, err := tab.Picture()
	if err != nil {
		return err
	}
	kept, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	upper, err := png.Decode(bytes.NewReader(shown))
	if err != nil {
		return err
	}
	lower, err := png.Decode(bytes.NewReader(kept))
	if err != nil {
		return err
	}
	size := image.Pt(upper.Bounds().Dx(), upper.Bounds().Dy())
	both := image.NewRGBA(image.Rect(0, 0, size.X, 2*size.Y))
	draw.Draw(both, image.Rectangle{Max: size}, upper, image.Point{}, draw.Src)
	draw.Draw(both, image.Rect(0, size.Y, size.X, 2*size.Y), lower, image.Point{}, draw.Src)
	var b bytes.Buffer
	if err := png.Encode(&b, both); err != nil {
		return err
	}
	return os.WriteFile(path, b.Bytes(), 0o644)
}

// trouble lets two vessels lose the harbour archive, and the archive refuse weights.
func trouble(ctx context.Context, d *fleetsim.Demo) error {
	d.Receivers.Refuse()
	for _, m := range d.Fleet {
		if m.Name == "dunlin" || m.Name == "turnstone" {
			m.LoseReceivers()
		}
	}
	for _, m := range d.Fleet {
		if m.Name == "dunlin" || m.Name == "turnstone" || m.Role == "weighbridge" {
			if err := m.Write(ctx, 700, time.Millisecond); err != nil {
				return err
			}
		}
	}
	time.Sleep(6 * time.Second) // until it is told, and reported
	return nil
}

// workbench pictures the workbench with masks, and with a template that was proposed for a log that
// nobody collects.
func workbench(d *fleetsim.Demo, tab browser.Tab, out string) error {
	text := func(host, path string) (string, error) {
		for _, m := range d.Fleet {
			if m.Name == host {
				data, err := os.ReadFile(filepath.Join(m.LogRoot(), path))
				lines := strings.SplitAfter(string(data), "\n")
				return strings.Join(lines[:min(len(lines), 200)], ""), err
			}
		}
		return "", fmt.Errorf("there is no host %s", host)
	}
	crew, err := text("gate-northpier-1", "gate/crew.log")
	if err != nil {
		return err
	}
	app, err := text("booking-1", "app/booking.json")
	if err != nil {
		return err
	}
	for _, s := range []struct{ name, address, lines, zone, see, then string }{
		{"workbench-template", "/workbench", crew + "ramp 2 was painted\n", "Europe/Lisbon", "not read", ""},
		{"workbench-masks", "/workbench?source=booking-app", app, "", "payment-card masked",
			"window.scrollTo(0, 585); ''"},
	} {
		if err := tab.Open(d.URL() + s.address); err != nil {
			return err
		}
		if err := tab.See("Lines"); err != nil {
			return err
		}
		time.Sleep(500 * time.Millisecond)
		if err := tab.Type("textarea", s.lines); err != nil {
			return err
		}
		if s.zone != "" {
			if err := tab.Type("#zone", s.zone); err != nil {
				return err
			}
		}
		if err := tab.See(s.see); err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
		time.Sleep(time.Second)
		if s.then != "" {
			if _, err := tab.Eval(s.then); err != nil {
				return err
			}
			time.Sleep(300 * time.Millisecond)
		}
		if err := keep(tab, filepath.Join(out, s.name+".png")); err != nil {
			return err
		}
	}
	return nil
}

func keep(tab browser.Tab, path string) error {
	picture, err := tab.Picture()
	if err != nil {
		return err
	}
	fmt.Println(path)
	return os.WriteFile(path, picture, 0o644)
}

// terminal pictures what commands print.
func terminal(ctx context.Context, tab browser.Tab, out, dir string) error {
	for _, page := range []struct {
		name     string
		commands [][]string
	}{
		{"cli-status", [][]string{{"status"}, {"numbers", "--by", "site", "--number", "read,lag", "--since", "15m"},
			{"host", "list", "--label", "role=gate"}}},
		{"cli-probe", [][]string{{"probe", "gate-scans", "--all-hosts"}, {"probe", "booking-app", "--host", "booking-1"},
			{"cost", "--since", "1h"}}},
	} {
		var b bytes.Buffer
		for _, args := range page.commands {
			fmt.Fprintf(&b, "$ synaxis %s\n", strings.ReplaceAll(strings.Join(args, " "), dir+"/", ""))
			cli.Run(ctx, args, strings.NewReader(""), &b, &b)
			b.WriteByte('\n')
		}
		doc := `<meta charset="utf-8"><body style="margin:24px;background:#14202a;color:#e9edee"><pre style="font:13px/1.45 'DejaVu Sans Mono',monospace;white-space:pre">` + html.EscapeString(
			b.String(),
		)
		if err := tab.Open("data:text/html," + url.PathEscape(doc)); err != nil {
			return err
		}
		if err := keep(tab, filepath.Join(out, page.name+".png")); err != nil {
			return err
		}
	}
	return nil
}
