package delivery

import (
	"fmt"
	"net/url"
	"strings"

	"synaxis/internal/core/cost"
	"synaxis/internal/core/schema"
	"synaxis/internal/core/yamldoc"
)

var secret = &schema.Value{Type: schema.Text, Refs: true, Secrets: true}

// Keys are what a destination definition and the destination of a host config share, beside the name.
var Keys = []schema.Key{
	{
		Name:    "was",
		Part:    "was",
		Value:   schema.Names("destination"),
		Doc:     "The name that the destination had before. A renamed destination keeps its buffers and rejects.",
		Example: "was: old-archive",
	},
	{
		Name: "deliver",
		Need: true,
		Hint: "how, such as deliver: {otlp: {url: \"https://logs.example:4318/v1/logs\"}}",
		Value: schema.OneOf(
			"deliver",
			schema.Key{
				Name:    "otlp",
				Part:    "deliver-http",
				Value:   schema.Obj("otlp", urlKey, headers, proxyKey, lookUpKey),
				Doc:     "OTLP over HTTP, protobuf.",
				Example: `otlp: {url: "https://archive.whimbrel.example:4318/v1/logs"}`,
			},
			schema.Key{
				Name: "http",
				Part: "deliver-http",
				Value: schema.Obj(
					"http",
					urlKey,
					headers,
					proxyKey,
					lookUpKey,
					schema.Key{
						Name:    "encoding",
						Was:     "form",
						Value:   schema.Words("ndjson", "json-array"),
						Default: "ndjson",
						Doc:     "One JSON object a line, or one JSON array.",
					},
				),
				Doc: "JSON over HTTP.",
			},
			schema.Key{Name: "syslog", Part: "deliver-syslog", Value: schema.Obj(
				"syslog",
				schema.Key{
					Name:  "address",
					Value: &schema.Value{Type: schema.Text, Refs: true, Check: checkAddress},
					Need:  true,
					Doc:   "Host and port.",
				},
				schema.Key{
					Name:    "transport",
					Value:   schema.Words("udp", "tcp", "tls"),
					Default: "tcp",
					Doc:     "What carries it.",
				},
			), Doc: "Syslog by RFC 5424.", Example: "syslog: {address: \"desk.whimbrel.example:6514\", transport: tls}"},
			schema.Key{
				Name: "file",
				Part: "deliver-file",
				Value: schema.Obj(
					"file",
					schema.Key{
						Name:  "path",
						Value: &schema.Value{Type: schema.Text, Refs: true, Check: checkPath},
						Need:  true,
						Hint:  "the file to append to",
						Doc:   "The file to append to, one JSON object a line.",
					},
				),
				Doc: "A file on the host.",
			},
			schema.Key{
				Name:  "discard",
				Value: schema.Obj("discard"),
				Doc:   "Nothing is kept; the records are counted.",
			},
			schema.Key{Name: "relay", Later: true, Value: schema.Scalar},
			schema.Key{Name: "postgresql", Later: true, Value: schema.Scalar},
			schema.Key{Name: "kafka", Later: true, Value: schema.Scalar},
			schema.Key{Name: "s3", Later: true, Value: schema.Scalar},
		),
		Doc: "How records get there: one of otlp, http, syslog, file, discard.",
	},
	{Name: "auth", Part: "auth", Value: schema.OneOf(
		"auth",
		schema.Key{
			Name:    "bearer",
			Value:   secret,
			Doc:     "A bearer token.",
			Example: `bearer: "${secret.archive_token}"`,
		},
		schema.Key{
			Name: "basic",
			Value: schema.Obj(
				"basic",
				schema.Key{Name: "user", Value: schema.WithRefs, Need: true, Doc: "The name."},
				schema.Key{Name: "password", Value: secret, Need: true, Doc: "The password."},
			),
			Doc: "A name and a password.",
		},
		schema.Key{
			Name:    "header",
			Value:   schema.TableOf(secret),
			Doc:     "Headers that carry a key.",
			Example: `header: {X-Key: "${secret.desk_key}"}`,
		},
	), Doc: "How the host proves who it is. Secrets are references; nothing secret is written here."},
	{Name: "tls", Part: "tls", Value: schema.Obj(
		"tls",
		schema.Key{
			Name:  "ca",
			Value: secret,
			Doc:   "The authority that vouches for the destination, in PEM; default: the host's own list.",
		},
		schema.Key{Name: "certificate", Value: secret, Doc: "The host's own certificate, in PEM."},
		schema.Key{Name: "key", Value: secret, Doc: "Its key, in PEM."},
		schema.Key{
			Name:  "server-name",
			Value: schema.WithRefs,
			Doc:   "The name that the destination's certificate must have, when it is another than in the address.",
		},
		schema.Key{
			Name:    "minimum",
			Value:   schema.Words("1.2", "1.3"),
			Default: "1.2",
			Doc:     "The oldest version of TLS that is spoken.",
		},
		schema.Key{
			Name:    "verify",
			Value:   schema.Flag,
			Default: "true",
			Doc: "Whether the destination's certificate is verified at all. Without it anybody on the way can read " +
				"and change the records.",
		},
	), Doc: "How the connection is made safe."},
	{
		Name:    "compress",
		Value:   schema.Words("none", "gzip", "zstd"),
		Default: "none",
		Doc:     "How the body is compressed.",
	},
	{Name: "batch", Value: schema.Obj(
		"batch",
		schema.Key{
			Name:    "records",
			Value:   schema.Whole(1),
			Default: "2000",
			Doc:     "At most so many records in one delivery.",
		},
		schema.Key{
			Name:    "bytes",
			Value:   schema.ASize,
			Default: "1MiB",
			Doc:     "At most so many bytes, before compression.",
		},
		schema.Key{
			Name:    "wait",
			Value:   schema.ADuration,
			Default: "1s",
			Doc:     "How long the first record waits for others.",
		},
	), Doc: "How records are put together.", Example: "batch: {records: 2000, bytes: 1MiB, wait: 1s}"},
	{Name: "buffer", Part: "disk-buffer", Value: schema.Obj(
		"buffer",
		schema.Key{
			Name:    "disk",
			Value:   schema.Checked("schema", checkRoom),
			Default: "256MiB",
			Doc:     "Room on the host's disk, for each host; none for no buffer.",
			Example: "disk: 1GiB",
		},
		schema.Key{
			Name:    "at-limit",
			Value:   schema.Words("pause", "discard-oldest", "discard-newest"),
			Default: "pause",
			Doc:     "What happens when it is full.",
		},
	), Doc: "Records that wait on the host's disk while the destination does not take them.",
		Example: "buffer: {disk: 1GiB, at-limit: discard-oldest}"},
	{
		Name:    "isolate",
		Value:   schema.Flag,
		Default: "false",
		PartOf:  isolatePart,
		Doc: "What feeds it is read for it alone, so that it never holds up its neighbours, even when its buffer is " +
			"full.",
	},
	{
		Name:    "at-once",
		Part:    "at-once",
		Value:   schema.Whole(1),
		Default: "4",
		Doc: "How many deliveries are under way at the same time, over http and otlp. Records of one file stay in " +
			"order.",
	},
	{
		Name:    "drain",
		Part:    "drain",
		Value:   schema.ADuration,
		Default: "1h",
		Doc:     "How long what is left is still delivered after the destination left a host's config.",
	},
	{Name: "retry", Value: schema.Obj(
		"retry",
		schema.Key{
			Name:    "first",
			Value:   schema.ADuration,
			Default: "500ms",
			Doc:     "The pause after the first failure; it doubles from there.",
		},
		schema.Key{Name: "longest", Was: "most", Value: schema.ADuration, Default: "1m", Doc: "The longest pause."},
		schema.Key{
			Name:    "give-up",
			Was:     "for",
			Value:   schema.ADuration,
			Default: "72h",
			Doc:     "After how long in all records go to the rejects.",
		},
	), Doc: "How a delivery that failed for now is tried again.", Example: "retry: {first: 500ms, longest: 1m, " +
		"give-up: 72h}"},
	{
		Name:    "limit",
		Part:    "limit",
		Value:   schema.Checked("schema", checkByteRate),
		Doc:     "How fast records are sent, before compression, for each host.",
		Example: "limit: 5MiB/s",
	},
	{Name: "rejects", Part: "rejects-bounds", Value: schema.Obj(
		"rejects",
		schema.Key{
			Name:    "keep",
			Value:   schema.ASize,
			Default: "256MiB",
			Doc:     "At most so much of what was refused for good is kept, for each host. What is over goes, oldest first.",
		},
		schema.Key{Name: "for", Value: schema.ADuration, Default: "14d", Doc: "For so long."},
	), Doc: "What is kept of records that the destination refused for good.",
		Example: "rejects: {keep: 256MiB, for: 14d}"},
	{
		Name:    "takes",
		Was:     "expects",
		Desk:    true,
		Value:   schema.TableOf(schema.Words("text", "int", "float", "bool", "time")),
		Doc:     "The fields that the receiver's table takes, with their types; checked against the sources.",
		Example: "takes: {lane: int, document: text}",
	},
	{
		Name:    "budget",
		Desk:    true,
		Value:   schema.Checked("schema", checkByteRate),
		Doc:     "How much the whole fleet may send in a day of UTC; going over it only warns.",
		Example: "budget: 20GiB/day",
	},
	{
		Name:    "price",
		Desk:    true,
		Value:   schema.Checked("schema", checkPrice),
		Doc:     "What the receiver takes for what is sent to it, before compression; synaxis cost tells what each source comes to.",
		Example: "price: 0.35 EUR/GiB",
	},
}

var (
	anURL  = &schema.Value{Type: schema.Text, Refs: true, Check: checkURL}
	urlKey = schema.Key{
		Name:  "url",
		Value: schema.Either(anURL, schema.ListOf(anURL)),
		Need:  true,
		PartOf: func(n *yamldoc.Node) string {
			if len(n.Texts()) > 1 {
				return "urls"
			}
			return ""
		},
		Hint: "where to send",
		Doc:  "Where to send; of a list, the next address when one fails, and the first again after a while.",
	}
	proxyKey = schema.Key{
		Name:    "proxy",
		Part:    "proxy",
		Value:   &schema.Value{Type: schema.Text, Refs: true, Check: checkURL},
		Doc:     "The proxy to go through. Without it there is none, whatever the host's environment says.",
		Example: `proxy: "http://proxy.whimbrel.example:3128"`,
	}
	lookUpKey = schema.Key{
		Name:  "look-up",
		Part:  "look-up",
		Value: &schema.Value{Type: schema.Text, Refs: true, Check: checkLookUp},
		Doc: "Where a probe asks whether the receiver has its record: a GET with the login of the destination, answered by " +
			"200 and a body that holds the name of the probe. {probe} stands for the name.",
		Example: `look-up: "https://archive.whimbrel.example/records?label.synaxis-probe={probe}"`,
	}
	headers = schema.Key{
		Name:    "headers",
		Value:   schema.TableOf(schema.WithRefs),
		Doc:     "Headers that say something, but nothing secret.",
		Example: "headers: {X-Desk: watch}",
	}
)

func checkPrice(s string) error {
	_, err := cost.ParsePrice(s)
	return err
}

func checkLookUp(s string) error {
	if !strings.Contains(s, "{probe}") {
		return fmt.Errorf("%q does not say where the name of the probe goes: {probe}", s)
	}
	return checkURL(strings.ReplaceAll(s, "{probe}", "x"))
}

func isolatePart(n *yamldoc.Node) string {
	if n.Bool(false) {
		return "isolate"
	}
	return ""
}

func checkURL(s string) error {
	if p, err := url.Parse(s); err != nil || p.Host == "" || p.Scheme != "http" && p.Scheme != "https" {
		return fmt.Errorf("%q is not an http or https address", s)
	}
	return nil
}

func checkRoom(s string) error {
	if s == "none" {
		return nil
	}
	n, err := yamldoc.ParseSize(s)
	if err == nil && n < minRoom {
		err = fmt.Errorf("%s is less than %dMiB; say none for no buffer", s, minRoom>>20)
	}
	return err
}

// minRoom is the least room of a buffer.
const minRoom = 1 << 20

func checkPath(s string) error {
	if !strings.HasPrefix(s, "/") {
		return fmt.Errorf("%q is not an absolute path", s)
	}
	return nil
}

func checkAddress(s string) error {
	if host, port, ok := strings.Cut(s, ":"); !ok || host == "" || port == "" {
		return fmt.Errorf("%q is not a host with its port, such as desk.example:6514", s)
	}
	return nil
}

func checkByteRate(s string) error {
	_, bytes, _, err := yamldoc.ParseRate(s)
	if err == nil && !bytes {
		err = fmt.Errorf("%q counts no bytes; expected a rate such as 5MiB/s or 20GiB/day", s)
	}
	return err
}

// Decode takes a destination out of a document that Keys found good. Its name has been taken already.
func Decode(r *yamldoc.Reader, n *yamldoc.Node, name string) Spec {
	s := Spec{Name: name, Compress: "none", Batch: DefaultBatch, Retry: DefaultRetry, Takes: n.Get("takes").TextMap()}
	if d := n.Get("deliver"); d != nil && len(d.Entries) == 1 {
		s.Kind = Kind(d.Entries[0].Key)
		how := d.Entries[0].Value
		s.URLs, s.Proxy, s.LookUp = how.Get("url").Texts(), how.Get("proxy").Text(), how.Get("look-up").Text()
		s.Path, s.Encoded, s.Headers = how.Get("path").Text(), how.Get("encoding").Text(), how.Get("headers").TextMap()
		s.Address, s.Transport = how.Get("address").Text(), how.Get("transport").Text()
	}
	if s.Kind == HTTP && s.Encoded == "" {
		s.Encoded = "ndjson"
	}
	if c := n.Get("compress"); c != nil {
		if s.Compress = c.Text(); s.Compress != "none" && s.Kind == File {
			r.Fail(c, "not-yet", "compress is not available yet for a file", "leave it out for now")
		}
	}
	b, t := n.Get("batch"), n.Get("retry")
	s.Batch.Records = int(min(b.Get("records").Int(int64(s.Batch.Records)), 1<<20))
	s.Batch.Bytes = max(b.Get("bytes").Size(s.Batch.Bytes), 1)
	s.Batch.Wait = b.Get("wait").Duration(s.Batch.Wait)
	s.Retry.First = max(t.Get("first").Duration(s.Retry.First), 10*1e6)
	s.Retry.Longest = max(t.Get("longest").Duration(s.Retry.Longest), s.Retry.First)
	s.Retry.GiveUp = t.Get("give-up").Duration(s.Retry.GiveUp)
	s.Was = n.Get("was").Text()
	s.Buffer = DefaultBuffer
	if disk := n.Get("buffer").Get("disk"); disk.Text() == "none" {
		s.Buffer.Disk = 0
	} else {
		s.Buffer.Disk = disk.Size(s.Buffer.Disk)
	}
	if v := n.Get("buffer").Get("at-limit"); v != nil {
		s.Buffer.AtLimit = AtLimit(v.Text())
	}
	s.Isolate = n.Get("isolate").Bool(false)
	s.AtOnce = int(min(n.Get("at-once").Int(DefaultAtOnce), 64))
	if s.Kind != HTTP && s.Kind != OTLP { // what has no answers has no order over several connections
		s.AtOnce = 1
	}
	if s.Kind == Discard && n.Get("buffer") == nil {
		s.Buffer.Disk = 0
	}
	s.Drain = n.Get("drain").Duration(DefaultDrain)
	if v := n.Get("limit"); v != nil {
		amount, _, per, _ := yamldoc.ParseRate(v.Text())
		s.Limit = amount / per.Seconds()
	}
	s.Rejects.Keep = n.Get("rejects").Get("keep").Size(DefaultRejects.Keep)
	s.Rejects.For = n.Get("rejects").Get("for").Duration(DefaultRejects.For)
	a := n.Get("auth")
	s.Auth = Auth{a.Get("bearer").Text(), a.Get("basic").Get("user").Text(), a.Get("basic").Get("password").Text(),
		a.Get("header").TextMap()}
	safe := n.Get("tls")
	s.TLS = TLS{safe.Get("ca").Text(), safe.Get("certificate").Text(), safe.Get("key").Text(), safe.Get("server-name").Text(),
		safe.Get("minimum").Text(), !safe.Get("verify").Bool(true)}
	s.Price, _ = cost.ParsePrice(n.Get("price").Text())
	if v := n.Get("budget"); v != nil {
		s.Budget, _, s.BudgetPer, _ = yamldoc.ParseRate(v.Text())
	}
	return s
}
