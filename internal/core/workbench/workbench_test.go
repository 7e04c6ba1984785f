package workbench

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/inventory"
)

func of(t *testing.T, text string) *catalogue.Catalogue {
	cat, _, problems := Over(nil, text)
	require.Empty(t, problems)
	return cat
}

const base = "destination: archive\ndeliver: {discard: {}}\n---\ndestination: desk\ndeliver: {discard: " +
	"{}}\n---\nsource: one\nhosts: all\nread: {files: [/a.log]}\nformat: raw\nsend: [desk]\n"

func TestPropose(t *testing.T) {
	t.Parallel()
	host := inventory.Host{Name: "gate-a"}
	for name, c := range map[string]struct {
		p        Proposal
		contains []string
		not      []string
	}{
		"a template": {Proposal{Path: "/srv/gate/crew-2031-04-02.log", Settings: map[string]string{
			"log_root": "/srv/gate", "srv": "/srv", "zone": "Europe/Lisbon"}, Lines: []string{
			"2031-04-02 06:15:09 INFO ramp 4 opened", "2031-04-02 06:15:10 WARN ramp 5 is slow"}},
			[]string{"source: gate-crew\n", `files: ["${setting.log_root}/crew-*.log"]`, "format: gate-crew\n",
				`time: {zone: "${setting.zone}"}`, "send: [{to: desk}]", `hosts: "host.name == \"gate-a\""`,
				"template:"}, nil},
		"a built-in format": {Proposal{Path: "/var/log/app.json", To: "archive", Name: "app", Lines: []string{
			`{"time":"2031-04-02T06:15:09Z","msg":"a"}`, `{"time":"2031-04-02T06:15:10Z","msg":"b"}`}},
			[]string{"source: app\n", `files: ["/var/log/app.json"]`, "format: json\n", "send: [{to: archive}]"},
			[]string{"zone", "format: app"}},
		"several lines": {Proposal{Path: "/var/log/app.log", Zone: "UTC", Lines: []string{
			"2031-04-02 06:15:09 ERROR failed", "  at one", "  at two", "2031-04-02 06:15:10 INFO going on"}},
			[]string{`records: {begin: '^\d\d\d\d-\d\d-\d\d'}`, "time: {zone: UTC}"}, nil},
		"another encoding": {Proposal{Path: "/var/log/app.log", Zone: "UTC", Encoding: "utf-16le", Lines: []string{
			"2031-04-02 06:15:09 ERROR Fähre", "2031-04-02 06:15:10 INFO Brücke"}},
			[]string{"read:\n  files: [\"/var/log/app.log\"]\n  encoding: utf-16le\n"}, nil},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			c.p.Host, c.p.Observed = host, time.Unix(1932873309, 0)
			d, err := Propose(of(t, base), c.p)
			require.NoError(t, err)
			for _, want := range c.contains {
				assert.Contains(t, d.Text(), want)
			}
			for _, no := range c.not {
				assert.NotContains(t, d.Text(), no)
			}
			_, _, problems := Over(of(t, base), d.Text())
			assert.Empty(t, problems, "what was drafted can be read")
		})
	}
	for want, p := range map[string]Proposal{
		"there is a source one already": {Name: "one"},
		"2 to 63":                       {Name: "x"},
		"named time zone":               {Name: "two", Zone: "CET"},
	} {
		p.Lines, p.Path = []string{"a"}, "/a"
		_, err := Propose(of(t, base), p)
		assert.ErrorContains(t, err, want)
	}
	_, err := Propose(of(t, "mask: mm\nfind: x\n"), Proposal{Name: "two", Path: "/a", Lines: []string{"a"}})
	assert.ErrorContains(t, err, "no destination yet")
}

// TestOver: definitions that are laid over a catalogue take the place of those of their names, and what is wrong with
// them has its place.
func TestOver(t *testing.T) {
	t.Parallel()
	cat, defs, problems := Over(
		of(t, base),
		"source: one\nhosts: all\nread: {files: [/b.log]}\nformat: json\nsend: [archive]\n",
	)
	require.Empty(t, problems)
	require.Len(t, defs, 1)
	assert.Equal(t, "json", cat.Get("source", "one").Source.Format)
	assert.NotNil(t, cat.Get("destination", "desk"), "all else stays")
	_, _, problems = Over(of(t, base), "mask: mm\nfind: x\n---\nmask: nn\nfind: x\nfnd: y\n")
	require.NotEmpty(t, problems)
	assert.Equal(t, 6, problems[0].Line)
	assert.Contains(t, problems[0].Reason+problems[0].Fix, "find")
}

func TestResult(t *testing.T) {
	t.Parallel()
	log := []byte("n=1 level=info\nwords alone\nn=2 level=info\nn=3 level=warn\n")
	src := base + "---\nsource: two\nhosts: all\nread: {files: [/a.log]}\nformat: keyvalue\nsteps: [{drop: fields.n " +
		"== 2}]\nsend: [{to: desk, when: level >= WARN}, {otherwise: archive}]\n"
	r := Source(of(t, src), "two", log, Options{Most: 2})
	require.Len(t, r.Records, 2)
	assert.Equal(t, []int{1, 2}, []int{r.Records[0].Line, r.Records[1].Line}, "what was not read is never cut off")
	assert.Equal(t, map[string]int64{"desk": 1, "archive": 2}, r.Destinations)
	assert.Equal(t, map[string]int64{"drop": 1}, r.DropReasons)
	assert.Equal(t, []Column{{"n", "int", 1}, {"level", "text", 1}}, r.Columns)
	r = Source(of(t, src), "two", log, Options{Unread: true})
	require.Len(t, r.Records, 1)
	assert.Equal(t, "words alone", r.Records[0].Original)
	text, err := json.Marshal(Source(of(t, src), "three", log, Options{}))
	require.NoError(t, err)
	assert.Contains(
		t,
		string(text),
		`"problems":[{"kind":"source","name":"three","line":0,"column":0,"reason":"there is no source three"}]`,
	)
	assert.Contains(t, string(text), `"records":[]`)
	bad := Format(of(t, base), "json", log, Options{Zone: "nowhere"})
	assert.Contains(t, bad.Problems[0].Reason, "named time zone")
}

// TestSettingsOfAHost: a zone that is a setting is that of the host that counts, and without one it is not known.
func TestSettingsOfAHost(t *testing.T) {
	t.Parallel()
	cat := of(
		t,
		base+"---\nsettings: all-of-them\nhosts: all\nvalues: {zone: Europe/Lisbon}\n---\nsource: two\nlabels: "+
			"{team: gate}\nhosts: all\nread: {files: [/a.log]}\nformat: keyvalue\ntime: {zone: "+
			"\"${setting.zone}\"}\nsteps: [{keep: 'labels.site == \"northpier\" && labels.team == "+
			"\"gate\"'}]\nsend: [desk]\n",
	)
	log := []byte("time=2031-04-02T06:15:09 n=1\n")
	r := Source(cat, "two", log, Options{})
	assert.Equal(t, 1, r.NoZone)
	assert.Equal(t, int64(1), r.Failed, "labels of no host")
	r = Source(
		cat,
		"two",
		log,
		Options{Host: &inventory.Host{Name: "gate-a", Labels: map[string]string{"site": "northpier"}}},
	)
	assert.Equal(t, "gate-a", r.Host)
	assert.Equal(t, "2031-04-02T05:15:09Z", r.Records[0].Time)
	assert.Zero(t, r.Failed)
}

// TestBytes: bytes are read in the encoding of the source, as on a host, and characters as they are; a log that looks
// otherwise is told of.
func TestBytes(t *testing.T) {
	t.Parallel()
	little := []byte("\xff\xfe")
	for _, r := range "Fähre\nĊüste\nbereit\n" {
		little = append(little, byte(r), byte(r>>8))
	}
	wide := of(t, strings.ReplaceAll(base, "files: [/a.log]", "files: [/a.log], encoding: utf-16"))
	r := Source(wide, "one", little, Options{})
	require.Len(t, r.Records, 3)
	assert.Equal(t, []any{"Ċüste", 2, "", 3}, []any{r.Records[1].Body, r.Records[1].Line, r.Looks, r.Records[2].Line})
	r = Source(wide, "one", []byte("Fähre\nKüste\n"), Options{Encoding: "utf-8"})
	assert.Equal(t, []any{"Küste", ""}, []any{r.Records[1].Body, r.Looks})
	assert.Equal(t, "utf-8", Source(wide, "one", []byte("Fähre\nKüste\n"), Options{}).Looks)
	assert.Equal(t, "utf-16le", Source(of(t, base), "one", little, Options{}).Looks)
	r = Source(of(t, base), "one", []byte("a \xe4\x81\xff b\n"), Options{})
	assert.Equal(t, []any{`a \xe4\x81\xff b`, ""}, []any{r.Records[0].Body, r.Looks}, "broken bytes stay visible")
	assert.Equal(t, "Fähre\nĊüste\nbereit\n", string(Scannable(little)))
	assert.Equal(t, "a \xe4 b", string(Scannable([]byte("a \xe4 b"))), "places are those of the file")
}

func TestUnpack(t *testing.T) {
	t.Parallel()
	var z bytes.Buffer
	w := gzip.NewWriter(&z)
	log := strings.Repeat("2031-04-02 06:15:09 INFO ramp 4 opened\n", 5000)
	_, _ = w.Write([]byte(log))
	require.NoError(t, w.Close())
	for name, c := range map[string]struct {
		data  string
		most  int
		out   string
		more  bool
		words string
	}{
		"plain":          {"a\nb\n", 10, "a\nb\n", false, ""},
		"plain and long": {"a\nb\nc", 3, "a\nb", true, ""},
		"gzip":           {z.String(), 1 << 20, log, false, ""},
		"gzip, bounded":  {z.String(), 39, log[:39], true, ""},
		"gzip, cut off":  {z.String()[:z.Len()-9], 1 << 20, log, false, ""},
		"gzip, broken": {z.String()[:12] + "\xff\xff\xff\xff\xff\xff" + z.String()[18:], 1 << 20, "", false,
			"broken"},
		"gzip, only a head": {"\x1f\x8b\x00", 10, "", false, "broken"},
		"xz": {"\xfd7zXZ\x00\x00\x04\xe6\xd6\xb4\x46\x02\x00\x21\x01\x1c", 100, "", false,
			"packed by xz"},
		"words": {"BZh is a name of a ramp\n", 100, "BZh is a name of a ramp\n", false, ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			out, more, err := Unpack([]byte(c.data), c.most)
			if c.words != "" {
				require.ErrorContains(t, err, c.words)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.more, more)
			assert.Equal(t, c.out, string(out))
		})
	}
}

func TestScan(t *testing.T) {
	t.Parallel()
	cat := of(t, "mask: crew\nfind: 'CR-\\d+'\n---\nmask: wide\nfind: 'to \\S+'\n")
	finders, err := Finders(cat)
	require.NoError(t, err)
	got := Scan([]byte("ünder CR-7\nto kelp@skerry.example\n"), finders)
	require.Len(t, got, 2)
	assert.Equal(t, Hit{Line: 1, Start: 7, End: 11, Lines: 1, Masks: []string{"crew"}}, got[0].Hit)
	assert.Equal(
		t,
		Hit{Line: 2, Start: 3, End: 22, Lines: 1, Detector: "email", Masks: []string{"email", "wide"}},
		got[1].Hit,
	)
	assert.True(t, strings.HasPrefix(got[0].Before, "ünder"))
}
