package test

import (
	"compress/gzip"
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/contract"
	"synaxis/internal/core/wire"
	"synaxis/internal/core/workbench"
)

// passengers is a catalogue with everything that a host can do to a record; rest is where records go, as YAML.
const passengers = `
source: gates
labels: {data: passenger}
hosts: all
read: {files: [%q], first-read: start}
format: gate
keep-original: true
unparsed: odd
steps:
  - drop: fields.result == "OK" && fields.lane == 0
  - set: {dock: '"pier-" + string(fields.lane)'}
  - mask: [passport]
  - sample: {keep: 1 in 2, when: level < WARN}
send:
  - {to: desk, when: level >= WARN}
  - {to: archive, when: 'fields.lane != 0'}
  - otherwise: held
---
format: gate
template: 'lane={lane:int} doc={doc} by={by} result={result:token}'
level: {field: result, map: {DENIED: WARN, '*': INFO}}
---
mask: passport
find: '\b[A-Z]{2}\d{7}\b'
fill: {text: '[passport]'}
mark: true
---
mask: who
detector: email
fill: {hash: "${secret.mask_key}"}
---
guard: all-passengers
sources: {data: passenger}
masks: [passport, who]
---
destination: desk
deliver: {otlp: {url: "%[2]s/v1/logs"}}
batch: {wait: 50ms}
---
destination: archive
deliver: {http: {url: "%[2]s/archive"}}
batch: {wait: 50ms}
---
destination: held
deliver: {http: {url: "%[2]s/held"}}
batch: {wait: 50ms}
---
destination: odd
deliver: {http: {url: "%[2]s/odd"}}
batch: {wait: 50ms}
`

// TestHostDoesWhatTheWorkbenchShows takes a log through a whole source at the desk, and then on a host: what arrives
// is what was shown, nothing private is in it, and every record is accounted for.
func TestHostDoesWhatTheWorkbenchShows(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	dir := t.TempDir()
	log := filepath.Join(dir, "gate.log")
	var arrived lockedBuffer
	recv := newReceiver(t, nil)
	recv.keep = &arrived
	text := fmt.Sprintf(passengers, filepath.Join(dir, "*.log"), recv.URL)
	const lines = "lane=4 doc=PA1234567 by=ada@skerry.example result=DENIED\nlane=0 doc=none by=kelp@skerry.example " +
		"result=OK\nlane=2 doc=PA7654321 by=ada@skerry.example result=OK\n" +
		"lane=3 doc=none by=none result=OK\nlane=0 doc=none by=none result=FAULT\ntill opened by PA1111111\n"

	secret := "k3y"
	get[contract.Secret](
		t,
		first(d.api.SetSecret(context.Background(), "mask_key", contract.SecretValue{Value: &secret})),
		nil,
	)
	d.agent("gate-a", filepath.Join(dir, "state"), d.joinToken(1, map[string]string{"site": "northpier"}))
	eventually(t, 15*time.Second, "the host to join", func() bool { return d.connected("gate-a") })

	// At the desk, of a draft that is not published.
	draft := get[contract.Draft](
		t,
		first(
			d.api.LoadDraft(
				context.Background(),
				contract.NewDraft{Files: []contract.File{{Path: "p.yaml", Text: text}}},
			),
		),
		nil,
	)
	require.Empty(t, draft.Findings)
	source := "gates"
	shown := get[workbench.Result](
		t,
		first(d.api.TryLog(context.Background(), contract.TryLog{Log: new(lines), Source: &source, Draft: &draft.Id})),
		nil,
	)
	require.Empty(t, shown.Problems)
	require.Len(t, shown.Records, 6)
	assert.Equal(t, map[string]int64{"drop": 1, "sample": 1}, shown.DropReasons)
	assert.Equal(t, map[string]int64{"desk": 1, "archive": 2, "held": 1, "odd": 1}, shown.Destinations)
	assert.Equal(t, int64(1), shown.Unread)
	assert.Equal(t, "gate-a", shown.Host)
	denied := shown.Records[0]
	assert.Equal(t, []string{"desk", "archive"}, denied.To)
	assert.Equal(t, "pier-4", denied.Fields["dock"])
	assert.Equal(t, "[passport]", denied.Fields["doc"])
	assert.Equal(t, []string{"passport"}, denied.Masked)
	require.Len(t, denied.Private, 2)
	assert.Equal(t, "PA1234567", denied.Original[denied.Private[0].Start:denied.Private[0].End])
	assert.Equal(t, "ada@skerry.example", denied.Original[denied.Private[1].Start:denied.Private[1].End])

	// On the host.
	p := get[contract.Published](
		t,
		first(d.api.PublishDraft(context.Background(), draft.Id, contract.Publication{})),
		nil,
	)
	require.Positive(t, p.Revision)
	require.Equal(t, contract.RolloutStateDone, d.rollOut().State)
	require.NoError(t, os.WriteFile(log, []byte(lines), 0o644))
	var n contract.Numbers
	eventually(t, 20*time.Second, "all records to be settled", func() bool {
		for _, s := range d.host("gate-a").Sources {
			n = s.Numbers
		}
		return n.Read == 6 && n.Pending == 0 && len(n.Destinations) == 4
	})
	assert.Equal(t, shown.DropReasons, n.DropReasons)
	assert.Equal(t, int64(2), n.Dropped)
	assert.Equal(t, int64(4), n.Acknowledged, "what was read was dropped by a rule, or acknowledged")
	assert.Equal(t, shown.Masked, n.Masked)
	assert.Equal(t, shown.Failed, n.Failed)
	for _, to := range n.Destinations {
		assert.Equal(t, shown.Destinations[to.Destination], to.Acknowledged, to.Destination)
	}
	all := arrived.String()
	for _, private := range []string{"PA1234567", "PA7654321", "PA1111111", "skerry.example"} {
		assert.NotContains(t, all, private)
	}
	assert.Contains(t, all, "pier-4")
	assert.Contains(t, all, `"weight":2`)
	assert.Contains(t, all, `"masked":["passport"]`)
	hashes := map[string]bool{}
	for _, h := range regexp.MustCompile(`by=#[0-9a-f]{24}`).FindAllString(all, -1) {
		hashes[h] = true
	}
	assert.Len(t, hashes, 1, "the same person is the same hash, in all records at all destinations")

	// The secret stays where it is needed, and is in no config that anybody sees.
	out, code := d.cli("host", "config", "gate-a")
	require.Zero(t, code)
	assert.Contains(t, out, "${secret.mask_key@1}")
	assert.NotContains(t, out, secret)
	kept, err := os.ReadFile(filepath.Join(dir, "state", "last-good.json"))
	require.NoError(t, err)
	assert.Contains(t, string(kept), `"secrets":{"mask_key@1":"k3y"}`)
	info, err := os.Stat(filepath.Join(dir, "state", "last-good.json"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	// From the command line, with and without the service.
	logFile := filepath.Join(dir, "some.txt")
	require.NoError(t, os.WriteFile(logFile, []byte(lines), 0o644))
	out, code = d.cli("source", "try", "gates", logFile)
	require.Zero(t, code, out)
	for _, want := range []string{"lane=4 doc=[passport] by=[who] result=DENIED", "→ desk, archive",
		"✖ dropped by drop", "✖ not read by the format", "1 to held", "With the settings and labels of gate-a",
		"2 set: dock=pier-4"} {
		assert.Contains(t, out, want)
	}
	assert.NotContains(t, out, "PA1234567")
	out, code = d.cli("source", "try", "gates", logFile, "--reveal")
	require.Zero(t, code)
	assert.Contains(t, out, "PA1234567")
	catalogueFile := filepath.Join(dir, "cat.yaml")
	require.NoError(t, os.WriteFile(catalogueFile, []byte(text), 0o644))
	out, code = d.cli("source", "try", "gates", logFile, "--from", catalogueFile, "-o", "json")
	require.Zero(t, code, out)
	var local workbench.Result
	require.NoError(t, json.Unmarshal([]byte(out), &local))
	assert.Equal(t, shown.Destinations, local.Destinations)
	out, code = d.cli("source", "try", "gate", logFile, "--from", catalogueFile)
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "has no source gate; it has gates")
	_, code = d.cli("source", "try", "gates", logFile, "--from", catalogueFile, "--draft", "3")
	assert.Equal(t, 2, code)
}

// wide writes a text as UTF-16, the lower byte first.
func wide(text string) string {
	var out []byte
	for _, u := range utf16.Encode([]rune(text)) {
		out = binary.LittleEndian.AppendUint16(out, u)
	}
	return string(out)
}

// TestBytesOfLogs: what is given as bytes is read in the encoding of the source, and characters as they are.
func TestBytesOfLogs(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	ctx := context.Background()
	d.publish(
		"destination: out\ndeliver: {discard: {}}\n---\nsource: tides\nhosts: all\nread: {files: [/t.log], " +
			"encoding: utf-16}\nformat: raw\nsend: [out]\n---\nsource: ramps\nhosts: all\nread: {files: " +
			"[/r.log]}\nformat: raw\nsend: [out]\n",
	)
	const text = "Küste frei, 555 1234\nFähre später als kelp@skerry.example\n"
	bytes, source := []byte(wide(text)), "tides"
	for name, c := range map[string]contract.TryLog{"bytes": {Bytes: &bytes, Source: &source}, "characters": {Log: new(
		text), Source: &source}} {
		r := get[workbench.Result](t, first(d.api.TryLog(ctx, c)), nil)
		require.Len(t, r.Records, 2, name)
		assert.Equal(t, "Küste frei, 555 1234", r.Records[0].Body, name)
		assert.Empty(t, r.Looks, name)
	}
	g := get[contract.GuessedLog](t, first(d.api.GuessLog(ctx, contract.GuessLog{Bytes: &bytes})), nil)
	assert.Equal(t, "utf-16le", g.Candidates[0].Encoding)
	scan := get[contract.ScannedLog](t, first(d.api.ScanLog(ctx, contract.ScanLog{Bytes: &bytes})), nil)
	require.Len(t, scan.Hits, 1)
	assert.Equal(
		t,
		[]any{2, "email", len("Fähre später als ")},
		[]any{scan.Hits[0].Line, scan.Hits[0].Detector, scan.Hits[0].Start},
	)
	got := get[contract.LogText](t, first(d.api.ReadText(ctx, contract.LogBytes{Bytes: bytes})), nil)
	assert.Equal(t, contract.LogText{Log: text, Encoding: "utf-16le"}, got)
	for words, b := range map[string][]byte{"packed by xz": []byte("\xfd7zXZ\x00\x00\x04\xe6\xd6\xb4\x46\x02\x00"),
		"not text": []byte("\x7fELF\x02\x01\x01\x00\x00\x00\x00\x03\x00")} {
		resp, err := d.api.ReadText(ctx, contract.LogBytes{Bytes: b})
		require.NoError(t, err)
		assert.Equal(t, http.StatusBadRequest, resp.StatusCode)
		assert.Contains(t, readAll(t, resp), words)
	}
	resp, err := d.api.TryLog(ctx, contract.TryLog{Log: new(text), Bytes: &bytes, Source: &source})
	require.NoError(t, err)
	assert.Contains(t, readAll(t, resp), "exclude each other")

	// From the command line, packed as rotated logs are, and with broken bytes.
	dir := t.TempDir()
	var z strings.Builder
	w := gzip.NewWriter(&z)
	_, _ = w.Write(bytes)
	require.NoError(t, w.Close())
	packed, broken := filepath.Join(dir, "tide.log.2.gz"), filepath.Join(dir, "broken.log")
	require.NoError(t, os.WriteFile(packed, []byte(z.String()), 0o600))
	require.NoError(t, os.WriteFile(broken, []byte("ramp \xe4\x81\xff is shut\n"), 0o600))
	out, code := d.cli("source", "try", "tides", packed)
	require.Zero(t, code, out)
	assert.Contains(t, out, "Küste frei")
	out, code = d.cli("format", "guess", packed)
	require.Zero(t, code, out)
	assert.Contains(t, out, "In the source: read: {encoding: utf-16le}")
	out, code = d.cli("mask", "scan", packed, "-o", "json")
	require.Zero(t, code, out)
	assert.Contains(t, out, `"detector": "email"`)
	out, code = d.cli("format", "try", "raw", packed)
	require.Zero(t, code, out)
	assert.Contains(t, out, "--encoding utf-16le")
	out, code = d.cli("format", "try", "raw", packed, "--encoding", "utf-16")
	require.Zero(t, code, out)
	assert.Contains(t, out, "Küste frei")
	assert.NotContains(t, out, "looks like")
	out, code = d.cli("format", "try", "raw", packed, "--encoding", "runes")
	assert.Equal(t, 2, code)
	assert.Contains(t, out, "utf-16be")
	out, code = d.cli("source", "try", "ramps", broken)
	require.Zero(t, code, out)
	assert.Contains(t, out, `ramp \xe4\x81\xff is shut`, "as a host would write it")
}

// TestWorkbenchOverTheAPI: guesses, tries of texts that are nowhere yet, scans, fields by selection, coverage; and
// what is wrong with a text is said with its place.
func TestWorkbenchOverTheAPI(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	ctx := context.Background()
	d.publish(
		"destination: out\ndeliver: {discard: {}}\n---\nmask: crew\nfind: 'CR-\\d+'\n---\nguard: crews\nsources: " +
			"{team: gate}\nmasks: [crew]\n---\nsource: lines\nlabels: {team: gate}\nhosts: all\nread: {files: " +
			"[/a.log]}\nformat: raw\nsend: [out]\n---\nsource: open\nhosts: all\nread: {files: [/b.log]}\nformat: " +
			"raw\nsend: [out]\n",
	)
	log := "2031-04-02 06:15:09 INFO ramp opened by CR-77\n2031-04-02 06:15:10 WARN ramp slow, call +351 210 555 " +
		"017\n2031-04-02 06:15:11 INFO ramp closed\n"
	zone := "Europe/Lisbon"
	name := "ramps"
	g := get[contract.GuessedLog](t, first(d.api.GuessLog(ctx, contract.GuessLog{Log: new(log), Name: &name})), nil)
	require.NotEmpty(t, g.Candidates)
	assert.Equal(t, "template", g.Candidates[0].Kind)
	assert.True(t, g.Candidates[0].NoZone)
	assert.InDelta(t, 1, g.Candidates[0].Share, 0.001)
	assert.NotContains(
		t,
		g.Candidates[0].Definition,
		"CR-77",
		"a sample holds nothing that a mask of the catalogue takes",
	)

	def := g.Candidates[0].Definition
	r := get[workbench.Result](
		t,
		first(d.api.TryLog(ctx, contract.TryLog{Log: new(log), Format: &name, Definitions: &def, Zone: &zone})),
		nil,
	)
	require.Len(t, r.Records, 3)
	assert.Equal(t, "2031-04-02T05:15:09Z", r.Records[0].Time)
	source := "ramps"
	both := def + "---\nsource: ramps\nlabels: {team: gate}\nhosts: all\nread: {files: [/c.log]}\nformat: " +
		"ramps\nsteps: [{drop: level < WARN}]\nsend: [out]\n"
	r = get[workbench.Result](
		t,
		first(d.api.TryLog(ctx, contract.TryLog{Log: new(log), Source: &source, Definitions: &both, Zone: &zone})),
		nil,
	)
	assert.Equal(t, map[string]int64{"drop": 2}, r.DropReasons)
	assert.Equal(t, "crew", r.Records[0].Private[0].Mask, "the guard of the catalogue covers it, dropped or not")
	broken := "format: ramps\ntemplate: '{a} {b'\n"
	r = get[workbench.Result](
		t,
		first(d.api.TryLog(ctx, contract.TryLog{Log: new(log), Format: &name, Definitions: &broken})),
		nil,
	)
	require.NotEmpty(t, r.Problems)
	assert.Equal(t, 2, r.Problems[0].Line)
	assert.Contains(t, r.Problems[0].Reason, "is not closed")

	scan := get[contract.ScannedLog](t, first(d.api.ScanLog(ctx, contract.ScanLog{Log: new(log)})), nil)
	require.Len(t, scan.Hits, 2)
	assert.Equal(t, []string{"crew"}, scan.Hits[0].Masks)
	assert.Equal(t, "phone", scan.Hits[1].Detector)
	field := get[contract.CarvedField](
		t,
		first(
			d.api.CarveField(
				ctx,
				contract.CarveField{
					Template: "{ts:time} {message:remainder}",
					Line:     "2031-04-02 06:15:09 ramp 4 slow",
					Start:    25,
					End:      26,
					Name:     "ramp",
				},
			),
		),
		nil,
	)
	assert.Equal(t, "{ts:time} ramp {ramp:int} {message-2:remainder}", field.Template)
	table := get[contract.CoverageTable](t, first(d.api.GetCoverage(ctx, nil)), nil)
	require.Len(t, table.Sources, 2)
	assert.Equal(t, "open", table.Sources[0].Source, "what nothing masks comes first")
	assert.True(t, table.Sources[1].Guards["crews"])

	bad := func(words string, resp *http.Response, err error) {
		t.Helper()
		require.NoError(t, err)
		defer resp.Body.Close()
		assert.Equal(t, http.StatusBadRequest, resp.StatusCode)
		assert.Contains(t, readAll(t, resp), words)
	}
	resp, err := d.api.TryLog(ctx, contract.TryLog{Log: new(log)})
	bad("a source, or a format", resp, err)
	resp, err = d.api.TryLog(ctx, contract.TryLog{Log: new(" \n"), Format: &name})
	bad("no lines", resp, err)
	resp, err = d.api.GuessLog(ctx, contract.GuessLog{Log: new(strings.Repeat("x\n", workbench.MaxLog))})
	bad("at most", resp, err)
	resp, err = d.api.CarveField(
		ctx,
		contract.CarveField{Template: "{a:int}", Line: "no", Start: 0, End: 1, Name: "b"},
	)
	bad("does not read this line", resp, err)
}

// contractOfTheWorkbench exercises what reads logs, at the desk and on host h1, which writes into dir.
func contractOfTheWorkbench(t *testing.T, c *contract.Client, bad func(int, *http.Response, error), dir string) {
	ctx := context.Background()
	log, name, zone := "2031-04-02 06:15:09 INFO ramp 4 opened by kelp@skerry.example\n2031-04-02 06:15:10 WARN "+
		"ramp 5 is slow\n", "ramps", "Europe/Lisbon"
	guessed := get[contract.GuessedLog](t, first(c.GuessLog(ctx, contract.GuessLog{Log: new(log), Name: &name})), nil)
	require.NotEmpty(t, guessed.Candidates)
	bad(400, first(c.GuessLog(ctx, contract.GuessLog{})), nil)
	definition := guessed.Candidates[0].Definition
	tried := get[contract.TriedLog](
		t,
		first(c.TryLog(ctx, contract.TryLog{Log: new(log), Format: &name, Definitions: &definition, Zone: &zone})),
		nil,
	)
	assert.Len(t, tried.Records, 2)
	bad(400, first(c.TryLog(ctx, contract.TryLog{Log: new(log)})), nil)
	assert.Len(t, get[contract.ScannedLog](t, first(c.ScanLog(ctx, contract.ScanLog{Log: new(log)})), nil).Hits, 1)
	bad(400, first(c.ScanLog(ctx, contract.ScanLog{})), nil)
	assert.Equal(
		t,
		"latin-1",
		get[contract.LogText](t, first(c.ReadText(ctx, contract.LogBytes{Bytes: []byte("K\xfcste\n")})), nil).Encoding,
	)
	bad(400, first(c.ReadText(ctx, contract.LogBytes{Bytes: []byte("\x1f\x8b\x00")})), nil)
	carve := contract.CarveField{
		Template: "{ts:time} {message:remainder}",
		Line:     "2031-04-02 06:15:09 ramp 4 slow",
		Start:    25,
		End:      26,
		Name:     "ramp",
	}
	assert.Contains(t, get[contract.CarvedField](t, first(c.CarveField(ctx, carve)), nil).Template, "{ramp:int}")
	carve.End = 99
	bad(400, first(c.CarveField(ctx, carve)), nil)
	assert.Len(t, get[contract.CoverageTable](t, first(c.GetCoverage(ctx, nil)), nil).Sources, 1)
	none := 99
	bad(404, first(c.GetCoverage(ctx, &contract.GetCoverageParams{Draft: &none})), nil)

	path := filepath.Join(dir, "crew.txt")
	require.NoError(t, os.WriteFile(path, []byte(log), 0o600))
	assert.Len(
		t,
		get[contract.HostLines](
			t,
			first(c.ReadHostLines(ctx, "h1", &contract.ReadHostLinesParams{Path: path})),
			nil,
		).Lines,
		2,
	)
	bad(404, first(c.ReadHostLines(ctx, "h9", &contract.ReadHostLinesParams{Path: path})), nil)
	assert.NotEmpty(t, get[contract.UncollectedList](t, first(c.ListUncollected(ctx, "h1")), nil).Folders)
	bad(404, first(c.ListUncollected(ctx, "h9")), nil)
	draft := get[contract.SourceDraft](t, first(c.DraftSource(ctx, "h1", contract.NewSourceDraft{Path: path})), nil)
	get[struct{}](t, first(c.DiscardDraft(ctx, draft.Draft)), nil)
	bad(404, first(c.DraftSource(ctx, "h9", contract.NewSourceDraft{Path: path})), nil)
}

// TestLinesFromHosts: the desk reads lines of a log by its path, lists what nobody collects, and makes a source of it;
// all of it bounded, refused where it is closed, and in the audit.
func TestLinesFromHosts(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	dir := t.TempDir()
	root := filepath.Join(dir, "log")
	require.NoError(t, os.MkdirAll(filepath.Join(root, ".hidden"), 0o755))
	write := func(name, text string) string {
		p := filepath.Join(root, name)
		require.NoError(t, os.WriteFile(p, []byte(text), 0o644))
		return p
	}
	var many strings.Builder
	for i := range 500 {
		fmt.Fprintf(&many, "2031-04-02 06:15:09 INFO crew %d is aboard\n", i)
	}
	crew := write("crew-2031-04-02.log", many.String())
	write("lane-1.log", "a\nb\n")
	blob := write("blob.log", "a\x00b\n")
	hidden := write(".hidden/x.log", "secret\n")
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(root, "innocent.log")))
	d.publish(
		fmt.Sprintf(
			"destination: out\ndeliver: {discard: {}}\n---\nsource: lanes\nhosts: all\nread: {files: [%q]}\nformat: "+
				"raw\nsend: [out]\n",
			filepath.Join(root, "lane-*.log"),
		),
	)
	state := filepath.Join(dir, "state")
	agent := d.agent("gate-a", state, d.joinToken(1, nil))
	eventually(t, 15*time.Second, "the host to join", func() bool { return d.connected("gate-a") })
	out, code := d.cli("host", "set", "gate-a", "log_root="+root)
	require.Zero(t, code, out)
	require.Equal(t, contract.RolloutStateDone, d.rollOut().State)

	lines := get[wire.Lines](
		t,
		first(d.api.ReadHostLines(context.Background(), "gate-a", &contract.ReadHostLinesParams{Path: crew})),
		nil,
	)
	require.Len(t, lines.Lines, wire.MaxLines)
	assert.True(t, lines.More)
	assert.Equal(t, "2031-04-02 06:15:09 INFO crew 499 is aboard", lines.Lines[wire.MaxLines-1])
	out, code = d.cli("host", "lines", "gate-a", crew, "--lines", "2")
	require.Zero(t, code)
	assert.Equal(t, "2031-04-02 06:15:09 INFO crew 498 is aboard\n2031-04-02 06:15:09 INFO crew 499 is aboard\n", out)
	for path, words := range map[string]string{"/etc/passwd": "closed to the desk", filepath.Join(root,
		"innocent.log"): "closed to the desk", hidden: "hidden", blob: "no text", "crew.log": "whole path",
		root + "/../log/crew.log": "whole path", filepath.Join(state, "identity.json"): "closed to the desk",
		"/proc/1/environ": "closed", filepath.Join(root, "none.log"): "no such file", root: "no file of lines"} {
		out, code = d.cli("host", "lines", "gate-a", path)
		assert.Equal(t, 1, code, path)
		assert.Contains(t, out, words, path)
	}
	list := get[contract.UncollectedList](t, first(d.api.ListUncollected(context.Background(), "gate-a")), nil)
	assert.Contains(t, list.Folders, root)
	found := map[string]contract.UncollectedLog{}
	for _, x := range list.Items {
		found[x.Path] = x
	}
	require.Contains(t, found, crew)
	assert.Equal(t, "template", found[crew].Kind)
	assert.NotContains(t, found, filepath.Join(root, "lane-1.log"), "a source takes it")
	assert.NotContains(t, found, blob)
	assert.NotContains(t, found, hidden)
	out, code = d.cli("host", "uncollected", "gate-a")
	require.Zero(t, code)
	assert.Contains(t, out, "synaxis source draft gate-a PATH")

	out, code = d.cli("source", "draft", "gate-a", crew, "--zone", "Europe/Lisbon", "-o", "json")
	require.Zero(t, code, out)
	var made contract.SourceDraft
	require.NoError(t, json.Unmarshal([]byte(out), &made))
	assert.Equal(t, "log-crew", made.Source)
	assert.Contains(t, made.Definitions, `"${setting.log_root}/crew-*.log"`)
	assert.Contains(t, made.Definitions, "time: {zone: Europe/Lisbon}")
	out, code = d.cli("draft", "check", fmt.Sprint(made.Draft))
	assert.Zero(t, code, out)
	out, code = d.cli("source", "draft", "gate-a", crew, "--name", "lanes")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "there is a source lanes already")

	out, code = d.cli("audit", "list", "-o", "json")
	require.Zero(t, code)
	assert.Contains(t, out, `"host read-lines"`)
	assert.Contains(t, out, `"host list-logs"`)
	assert.Contains(t, out, "/etc/passwd", "what was refused is in the audit too")

	// A log in another encoding is characters at the desk, and its source says how to read it.
	tide := write(
		"tide.log",
		wide("\ufeff2031-04-02 06:15:09 INFO Küste frei\r\n2031-04-02 06:15:10 WARN Fähre später\r\n"),
	)
	lines = get[wire.Lines](
		t,
		first(d.api.ReadHostLines(context.Background(), "gate-a", &contract.ReadHostLinesParams{Path: tide})),
		nil,
	)
	assert.Equal(t, "utf-16le", lines.Encoding)
	assert.Equal(
		t,
		[]string{"2031-04-02 06:15:09 INFO Küste frei", "2031-04-02 06:15:10 WARN Fähre später"},
		lines.Lines,
	)
	out, code = d.cli("host", "uncollected", "gate-a")
	require.Zero(t, code)
	assert.Contains(t, out, "100% template, no zone, utf-16le")
	out, code = d.cli("source", "draft", "gate-a", tide, "--zone", "Europe/Lisbon", "--name", "tides", "-o", "json")
	require.Zero(t, code, out)
	require.NoError(t, json.Unmarshal([]byte(out), &made))
	assert.Contains(t, made.Definitions, "  encoding: utf-16le\n")
	out, code = d.cli("source", "try", "tides", tide, "--draft", fmt.Sprint(made.Draft), "-o", "json")
	require.Zero(t, code, out)
	var tried workbench.Result
	require.NoError(t, json.Unmarshal([]byte(out), &tried))
	require.Len(t, tried.Records, 2)
	assert.Equal(
		t,
		[]any{"Fähre später", "2031-04-02T05:15:10Z", "WARN", 2},
		[]any{tried.Records[1].Body, tried.Records[1].Time, tried.Records[1].Level, tried.Records[1].Line},
	)
	out, code = d.cli("source", "try", "tides", crew, "--draft", fmt.Sprint(made.Draft))
	assert.Equal(t, 1, code, out)
	assert.Contains(t, out, "The log looks like utf-8; the source reads it otherwise")

	agent.stop()
	eventually(t, 10*time.Second, "the host to be away", func() bool { return !d.connected("gate-a") })
	out, code = d.cli("host", "lines", "gate-a", crew)
	assert.NotZero(t, code)
	assert.Contains(t, out, "is away")

	closed := startDesk(t, "--no-host-reading")
	out, code = closed.cli("host", "lines", "gate-a", crew)
	assert.Equal(t, 5, code)
	assert.Contains(t, out, "a right of its own")
}
