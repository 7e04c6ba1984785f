package pipeline

import (
	"fmt"
	"net/netip"
	"regexp"
	"strconv"
	"strings"

	"synaxis/internal/core/expect"
	"synaxis/internal/core/format"
	"synaxis/internal/core/lines"
	"synaxis/internal/core/schema"
	"synaxis/internal/core/yamldoc"
)

// Keys are what a source definition and the source of a host config share, beside the name.
var Keys = []schema.Key{
	{
		Name:    "was",
		Value:   schema.Names("source"),
		Part:    "was",
		Doc:     "The name that the source had before. A renamed source keeps its positions and buffers.",
		Example: "was: lane-scans",
	},
	{
		Name:    "labels",
		Value:   schema.Labels,
		Doc:     "Go on every record, over those of the host; guards choose by them.",
		Example: "labels: {team: boarding, data: passenger}",
	},
	{
		Name:  "read",
		Value: readValue,
		Need:  true,
		Hint:  "what to read, such as read: {files: [/var/log/app/*.log]}",
		Doc: "Where the records come from: one of files, files-from, syslog, socket, http, otlp, command, journal, " +
			"generate.",
	},
	{Name: "records", Value: schema.Obj(
		"records",
		schema.Key{
			Name:  "begin",
			Value: schema.Checked("schema", checkRegexp),
			Doc: "An expression (RE2). A record of several lines begins at a line that it finds; without it " +
				"each line is a record.",
			Example: `begin: '^\d{4}-\d{2}-\d{2}'`,
		},
		schema.Key{
			Name:    "idle",
			Value:   schema.ADuration,
			Part:    "record-bounds",
			Default: "5s",
			Doc:     "After how long without a new line the last record is taken as complete.",
		},
		schema.Key{
			Name:    "largest",
			Was:     "most",
			Value:   schema.Checked("schema", checkMost),
			Part:    "record-bounds",
			Default: "1MiB",
			Doc:     "The largest record, up to 16MiB. What is longer is cut there, and the pieces are marked.",
		},
	), Doc: "How the bytes are cut into records."},
	{
		Name:    "format",
		Value:   schema.Names("format"),
		Need:    true,
		Hint:    "how to read a line; raw takes it as it is",
		Doc:     "The format that reads a record: a built-in one or one of yours.",
		Example: "format: gate-scan",
	},
	{
		Name:    "time",
		Value:   format.TimeValue,
		Doc:     "Laid over the format's own time, key by key.",
		Example: "time: {zone: Europe/Lisbon}",
	},
	{
		Name:    "keep-original",
		Value:   schema.Flag,
		Default: "false",
		Doc:     "Keep the record as it was read beside its body.",
	},
	{
		Name:    "record-ids",
		Value:   schema.Flag,
		Default: "true",
		PartOf:  recordIDsPart,
		Doc: "Whether every record carries an id, which is the same when it is delivered a second time, so that a " +
			"receiver can drop what it has.",
	},
	{
		Name:    "unparsed",
		Value:   schema.Names("destination"),
		Default: "keep",
		PartOf:  unparsedPart,
		Doc: "What becomes of a record that the format does not read: keep it (its body is the line, " +
			"parsed=false), drop it, or send it to a destination, by its name.",
	},
	{Name: "expect", Desk: true, Value: schema.Obj(
		"expect",
		schema.Key{
			Name:  "every",
			Value: schema.ADuration,
			Doc:   "A record is due at least this often; silence beyond it turns the source yellow.",
		},
		schema.Key{
			Name:    "during",
			Value:   schema.Checked("schema", checkHours),
			Doc:     "The hours of the day, in the source's zone, in which it holds.",
			Example: `during: "05:00-23:00"`,
		},
		schema.Key{
			Name:    "per",
			Value:   schema.Words("host", "source", "file"),
			PartOf:  perPart,
			Default: "host",
			Doc: "Whether each host must deliver, the source as a whole, or each of its files; at-least is of a host " +
				"also where every is of each file.",
		},
		schema.Key{
			Name:    "at-least",
			Value:   schema.Checked("schema", checkHourly),
			Doc:     "How many records come in each hour of during at least.",
			Example: "at-least: 1000/h",
		},
		schema.Key{
			Name:    "filled",
			Value:   schema.TableOf(schema.Checked("schema", checkShare)),
			Part:    "watch",
			Doc:     "The share of the records that the format reads in which a field must be there.",
			Example: "filled: {lane: 95%}",
		},
	), Doc: "What is normal for this source, so that its silence is noticed."},
	{
		Name:  "steps",
		Value: schema.ListOf(stepValue),
		Part:  "steps",
		Doc: "Done to each record on the host, in order. A condition that cannot be computed, because a field is " +
			"missing, is not met and counted.",
	},
	{Name: "watch", Part: "watch", Made: true, Value: schema.Obj(
		"watch",
		schema.Key{Name: "filled", Value: schema.Texts, Doc: "Fields of which it is counted how often they are there."},
		schema.Key{Name: "every", Value: schema.ADuration, Doc: "How often each file is to grow."},
		schema.Key{Name: "during", Value: schema.Checked("schema", checkHours), Doc: "The hours in which it is to."},
		schema.Key{Name: "zone", Value: schema.Plain, Doc: "The zone of these hours."},
	), Doc: "What the host itself watches of what is expected."},
	{Name: "guards", Value: schema.Texts, Part: "masks", Made: true, Doc: "The masks that guards put on this source."},
	{
		Name:  "send",
		Value: schema.ListOf(schema.Either(schema.Names("destination"), sendValue)),
		Need:  true,
		Hint:  "the destinations of its records, such as send: [{to: archive}]",
		Doc: "Where the records go. Every entry that matches gets its own copy: an entry without a when gets " +
			"every record, also those that another entry takes. For the rest alone write otherwise, which takes " +
			"what no entry took; it is required when every entry has a when.",
		Example: "send: [{to: watch-desk, when: level >= WARN}, {otherwise: harbour-archive}]",
	},
}

var readValue = schema.Obj(
	"read",
	schema.Key{
		Name:    "files",
		Part:    "files",
		Value:   schema.ListOf(schema.WithRefs),
		Doc:     "Patterns of absolute paths; ** crosses folders.",
		Example: `files: ["${setting.log_root}/gate/lane-*.log"]`,
	},
	schema.Key{Name: "files-from", Part: "files-from", Value: schema.Obj(
		"files-from",
		schema.Key{
			Name:  "command",
			Value: schema.ListOf(schema.WithRefs),
			Need:  true,
			Doc:   "A program with its arguments, which prints one path a line.",
		},
		schema.Key{Name: "every", Value: schema.ADuration, Default: "10m", Doc: "How often it is asked."},
	), Doc: "Lets the host itself say which files."},
	schema.Key{
		Name:    "syslog",
		Part:    "listeners",
		Value:   schema.Obj("syslog", listen("udp", "udp", "tcp", "tls"), allow, connections),
		Doc:     "Receives syslog messages of devices and programs.",
		Example: "syslog: {listen: {port: 5514, reached-at: 514, transport: udp}}",
	},
	schema.Key{
		Name: "socket",
		Part: "listeners",
		Value: schema.Obj(
			"socket",
			listen("tcp", "udp", "tcp", "tls"),
			schema.Key{
				Name:    "framing",
				Value:   schema.Words("newline", "null", "packet", "octet-count"),
				Default: "newline",
				Doc:     "How one message ends and the next begins.",
			},
			allow,
			connections,
		),
		Doc: "Receives raw bytes, cut by framing.",
	},
	schema.Key{
		Name: "http",
		Part: "listeners",
		Value: schema.Obj(
			"http",
			listen("tcp", "tcp", "tls"),
			schema.Key{
				Name:    "path",
				Value:   schema.Checked("schema", checkSlash),
				Default: "/",
				Doc:     "The path that takes records.",
			},
			token,
			allow,
			connections,
		),
		Doc: "Receives records pushed over HTTP, one a line or as a JSON array.",
	},
	schema.Key{
		Name:  "otlp",
		Part:  "listeners",
		Value: schema.Obj("otlp", listen("tcp", "tcp", "tls"), token, allow, connections),
		Doc:   "Receives OTLP logs over HTTP.",
	},
	schema.Key{Name: "command", Part: "commands", Value: schema.Obj(
		"command",
		schema.Key{
			Name:  "run",
			Value: schema.ListOf(schema.WithRefs),
			Need:  true,
			Doc:   "A program with its arguments; what it prints are the records.",
		},
		schema.Key{Name: "every", Value: schema.ADuration, Doc: "Run it this often; without it it is kept running."},
		schema.Key{
			Name:    "standard-error",
			Value:   schema.Words("report", "ignore"),
			Default: "report",
			Doc:     "What it says there while it goes well: the source is degraded, or that is no matter.",
		},
	), Doc: "Takes what a program prints.", Example: "command: {run: [/usr/bin/tide, --now], every: 1m}"},
	schema.Key{Name: "generate", Part: "generate", Value: schema.Obj(
		"generate",
		schema.Key{
			Name:  "rate",
			Value: schema.Checked("schema", checkCountRate),
			Need:  true,
			Doc:   "How many records, such as 10/s.",
		},
		schema.Key{
			Name:  "template",
			Value: schema.Plain,
			Need:  true,
			Doc:   "The text of each record; {n} is its number, {time} the time.",
		},
	), Doc: "Makes up records, for trying things out."},
	schema.Key{Name: "journal", Part: "journal", Value: schema.Obj(
		"journal",
		schema.Key{
			Name:    "units",
			Value:   schema.Texts,
			Doc:     "Patterns of the units whose entries are read; without it all are.",
			Example: `units: ["ssh*"]`,
		},
	), Doc: "Reads the system's journal, through its own program. Its fields are fields of the record."},
	schema.Key{
		Name:    "except",
		Value:   schema.ListOf(schema.WithRefs),
		Doc:     "Patterns of files that are not read. One without a slash is matched with the base name.",
		Example: `except: ["*.tmp"]`,
	},
	schema.Key{
		Name:    "links",
		Value:   schema.Words("near", "follow"),
		Default: "near",
		PartOf:  linksPart,
		Doc: "Which links to files are followed: those that lead into a folder that the patterns name (near), " +
			"or all. Who may write into the folder then decides what is read.",
	},
	schema.Key{
		Name:    "first-read",
		Value:   schema.Words("now", "start"),
		Default: "now",
		Doc: "Where reading begins in files that are there when the pattern is first looked at: at their end " +
			"(now), or at their start.",
	},
	schema.Key{
		Name:    "encoding",
		Value:   schema.Words(lines.Encodings...),
		Default: "utf-8",
		PartOf:  encodingPart,
		Doc:     "How the bytes are characters.",
	},
	schema.Key{Name: "senders", Part: "listeners", Value: schema.ListOf(schema.Obj(
		"a sender",
		schema.Key{Name: "name", Value: schema.Plain, Need: true, Doc: "What it is called."},
		schema.Key{
			Name:  "from",
			Value: schema.Checked("schema", checkNetwork),
			Need:  true,
			Doc:   "Its address, or a network.",
		},
		schema.Key{Name: "labels", Value: schema.Labels, Doc: "Go on its records, over the source's."},
		schema.Key{
			Name:  "format",
			Value: schema.Names("format"),
			Doc:   "Its format, when it is another than the source's.",
		},
		schema.Key{Name: "time", Value: format.TimeValue, Doc: "Laid over the source's time."},
		schema.Key{
			Name: "expect",
			Value: schema.Obj(
				"expect",
				schema.Key{Name: "every", Value: schema.ADuration, Doc: "A record is due this often."},
				schema.Key{
					Name:  "during",
					Value: schema.Checked("schema", checkHours),
					Doc:   "The hours of the day in which it holds, in the zone of the sender, or else of the source.",
				},
			),
			Doc: "What is normal for it. The host that listens watches it.",
		},
	)), Doc: "Devices without an agent that send to this listener, each with labels, a format, a zone and an " +
		"expectation of its own.", Example: "senders: [{name: bridge-a, from: 198.51.100.20, labels: {lane: a}}]"},
	schema.Key{
		Name:    "unknown-senders",
		Part:    "listeners",
		Value:   schema.Words("keep", "refuse"),
		Default: "keep",
		Doc:     "What becomes of records from an address that is no sender: keep (visible as unknown) or refuse.",
	},
).With("files", "files-from", "syslog", "socket", "http", "otlp", "command", "journal", "generate")

var (
	allow = schema.Key{
		Name:    "allow",
		Value:   schema.ListOf(schema.Checked("schema", checkNetwork)),
		Doc:     "Networks that may send; without it all may.",
		Example: "allow: [198.51.100.0/24]",
	}
	connections = schema.Key{
		Name:    "connections",
		Value:   schema.Whole(1),
		Default: "200",
		Doc:     "How many connections at once.",
	}
	token = schema.Key{
		Name:    "token",
		Value:   &schema.Value{Type: schema.Text, Refs: true, Secrets: true},
		Doc:     "What callers must present as bearer.",
		Example: `token: "${secret.push_token}"`,
	}
)

func listen(def string, transports ...string) schema.Key {
	return schema.Key{Name: "listen", Need: true, Value: schema.Obj(
		"listen",
		schema.Key{Name: "address", Value: schema.WithRefs, Default: "0.0.0.0", Doc: "The address to bind."},
		schema.Key{
			Name:  "port",
			Value: &schema.Value{Type: schema.Int, Least: 1, Refs: true},
			Need:  true,
			Doc:   "The port to bind on the host. Below 1024 the agent needs a right.",
		},
		schema.Key{
			Name:  "reached-at",
			Value: schema.Whole(1),
			Desk:  true,
			Doc:   "The port that senders use, when something between changes it.",
		},
		schema.Key{Name: "transport", Value: schema.Words(transports...), Default: def, Doc: "What carries it."},
		schema.Key{
			Name:  "certificate",
			Value: &schema.Value{Type: schema.Text, Refs: true, Secrets: true},
			Doc: "For tls: the certificate, in PEM; or issued: the service signs one, and the agent renews it when two " +
				"thirds of its life are over. Senders trust the authority that synaxis sender authority prints.",
		},
		schema.Key{
			Name:  "key",
			Value: &schema.Value{Type: schema.Text, Refs: true, Secrets: true},
			Doc:   "For tls: its key, in PEM; not with issued.",
		},
	), Doc: "Where it listens."}
}

var stepValue = schema.OneOf(
	"a step",
	schema.Key{Name: "keep", Value: schema.Cond, Doc: "Keep only records that meet the condition."},
	schema.Key{
		Name:    "drop",
		Value:   schema.Cond,
		Doc:     "Drop records that meet the condition.",
		Example: "drop: fields.result == \"OK\" && fields.lane == 0",
	},
	schema.Key{Name: "parse", Value: schema.Obj("parse",
		schema.Key{Name: "from", Value: schema.Plain, Need: true, Doc: "The field whose text is read, or body."},
		schema.Key{Name: "format", Value: schema.Names("format"), Need: true, Doc: "The format that reads it."},
		schema.Key{Name: "prefix", Value: schema.Plain, Doc: "Put before the names of what it finds, with a dot."},
	), Doc: "Read a field by a format of its own. What it finds becomes fields; its level counts where the record " +
		"has none.", Example: "parse: {from: note, format: json, prefix: note}"},
	schema.Key{
		Name:    "set",
		Value:   schema.TableOf(&schema.Value{Type: schema.Expression}),
		Doc:     "Set fields to computed values. All see the record as it was before the step.",
		Example: `set: {dock: '"pier-" + string(fields.lane)'}`,
	},
	schema.Key{
		Name:    "mask",
		Value:   schema.ListOf(schema.Names("mask")),
		Doc:     "Apply masks now, before later steps see the values.",
		Example: "mask: [passport, phone]",
	},
	schema.Key{
		Name:    "rename",
		Value:   schema.TableOf(schema.Plain),
		Doc:     "Give fields other names.",
		Example: "rename: {doc: document}",
	},
	schema.Key{Name: "remove", Value: schema.Texts, Doc: "Take fields away.", Example: "remove: [note]"},
	schema.Key{Name: "sample", Value: schema.Obj(
		"sample",
		schema.Key{
			Name:  "keep",
			Value: schema.Checked("schema", checkSample),
			Need:  true,
			Doc:   "Such as 1 in 10. The counter is per source and host; the weight is noted on the record.",
		},
		schema.Key{Name: "when", Value: schema.Cond, Doc: "Only for records that meet this."},
	), Doc: "Keep one of many.", Example: "sample: {keep: 1 in 10, when: level < WARN}"},
	schema.Key{Name: "limit", Value: schema.Obj(
		"limit",
		schema.Key{
			Name:  "records",
			Value: schema.Checked("schema", checkCountRate),
			Need:  true,
			Doc:   "How many may pass, such as 500/s.",
		},
		schema.Key{Name: "when", Value: schema.Cond, Doc: "Only for records that meet this."},
	), Doc: "Let no more than so many pass; what is over is dropped and counted.", Example: "limit: {records: " +
		"500/s, when: level < WARN}"},
)

var sendValue = schema.Obj(
	"an entry of send",
	schema.Key{Name: "to", Value: schema.Names("destination"), Doc: "The destination."},
	schema.Key{Name: "when", Value: schema.Cond, Part: "conditions", Doc: "Only for records that meet this."},
	schema.Key{
		Name:  "otherwise",
		Value: schema.Names("destination"),
		Part:  "conditions",
		Doc:   "The destination of what no other entry took.",
	},
).With("to", "otherwise")

func perPart(n *yamldoc.Node) string {
	if n.Text() == "file" {
		return "watch"
	}
	return ""
}

func unparsedPart(n *yamldoc.Node) string {
	if t := n.Text(); t == "keep" || t == "drop" {
		return ""
	}
	return "unparsed-route"
}

func recordIDsPart(n *yamldoc.Node) string {
	if n.Bool(true) {
		return ""
	}
	return "record-ids"
}

func linksPart(n *yamldoc.Node) string {
	if n.Text() == "follow" {
		return "links"
	}
	return ""
}

func encodingPart(n *yamldoc.Node) string {
	if n.Text() == "utf-8" {
		return ""
	}
	return "encodings"
}

func checkRegexp(s string) error {
	if _, err := regexp.Compile(s); err != nil {
		return fmt.Errorf("%w; expressions are RE2, such as '^\\d{4}-'", err)
	}
	return nil
}

func checkMost(s string) error {
	n, err := yamldoc.ParseSize(s)
	if err == nil && (n < 1<<10 || n > lines.MostRecord) {
		err = fmt.Errorf("%s is not between 1KiB and %dMiB", s, lines.MostRecord>>20)
	}
	return err
}

func checkShare(s string) error {
	_, err := yamldoc.ParseShare(s)
	return err
}

func checkCountRate(s string) error {
	_, bytes, _, err := yamldoc.ParseRate(s)
	if err == nil && bytes {
		err = fmt.Errorf("%q counts bytes; expected a number of records, such as 500/s", s)
	}
	return err
}

func checkHours(s string) error {
	_, err := expect.ParseHours(s)
	return err
}

// hourly reads how many records come in an hour.
func hourly(s string) (int64, error) {
	text, ok := strings.CutSuffix(s, "/h")
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || !ok || n < 1 {
		return 0, fmt.Errorf("%q is no number of records in an hour, such as 1000/h", s)
	}
	return n, nil
}

func checkHourly(s string) error {
	_, err := hourly(s)
	return err
}

func checkSlash(s string) error {
	if !strings.HasPrefix(s, "/") {
		return fmt.Errorf("%q does not begin with /", s)
	}
	return nil
}

func checkSample(s string) error {
	var keep, of int
	if n, err := fmt.Sscanf(s, "%d in %d", &keep, &of); n != 2 || err != nil || keep < 1 || of <= keep ||
		fmt.Sprintf("%d in %d", keep, of) != s {
		return fmt.Errorf("%q is not a sample such as 1 in 10", s)
	}
	return nil
}

func checkNetwork(s string) error {
	if _, err := netip.ParseAddr(s); err == nil {
		return nil
	}
	if _, err := netip.ParsePrefix(s); err != nil {
		return fmt.Errorf("%q is neither an address nor a network such as 198.51.100.0/24", s)
	}
	return nil
}
