package record

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strconv"
	"time"

	collogs "go.opentelemetry.io/proto/otlp/collector/logs/v1"
	common "go.opentelemetry.io/proto/otlp/common/v1"
	logs "go.opentelemetry.io/proto/otlp/logs/v1"
	"google.golang.org/protobuf/proto"
)

// Decoder reads encoded records back into batches of one record, for what needs another form of them.
type Decoder struct{ batch Batch }

// Decode reads a record that an Encoder wrote. The batch is valid until the next call.
func (d *Decoder) Decode(enc Encoding, o *Origin, text []byte) (*Batch, error) {
	d.batch = Batch{Origin: o, Schema: NewSchema(), Arena: d.batch.Arena[:0]}
	d.batch.Records = append(d.batch.Records, Record{})
	var err error
	switch enc {
	case NDJSON:
		err = d.json(text)
	case OTLP:
		err = d.otlp(text)
	default:
		err = fmt.Errorf("records of encoding %d hold nothing", enc)
	}
	return &d.batch, err
}

// Transcode writes a run in another encoding. The run is released.
func Transcode(e Encoded, to Encoding) (Encoded, error) {
	out := fresh(to, e.Origin)
	if to == Nothing {
		out.Ends = append(out.Ends, make([]uint32, len(e.Ends))...)
		out.Bytes, out.memory.ends = nil, out.Ends
		e.Release()
		return out, nil
	}
	var d Decoder
	var enc Encoder
	from := uint32(0)
	for _, end := range e.Ends {
		b, err := d.Decode(e.Encoding, e.Origin, e.Bytes[from:end])
		if err != nil {
			out.Release()
			return Encoded{}, err
		}
		if to == OTLP {
			out.Bytes = enc.appendOTLP(out.Bytes, b, &b.Records[0])
		} else {
			out.Bytes = enc.AppendNDJSON(out.Bytes, b, &b.Records[0])
		}
		out.Ends = append(out.Ends, uint32(len(out.Bytes)))
		from = end
	}
	out.memory.bytes, out.memory.ends = out.Bytes, out.Ends
	e.Release()
	return out, nil
}

// add puts a field onto the record.
func (d *Decoder) add(name string, v any) error {
	slot, ok := d.batch.Schema.Slot([]byte(name))
	if !ok {
		return nil
	}
	value := Value{Slot: slot}
	switch v := v.(type) {
	case string:
		value.Kind, value.Span = Text, d.batch.Put([]byte(v))
	case bool:
		value.Kind = Bool
		if v {
			value.Num = 1
		}
	case int64:
		value.Kind, value.Num = Int, uint64(v)
	case float64:
		value.Kind, value.Num = Float, math.Float64bits(v)
	default:
		text, err := json.Marshal(v)
		if err != nil {
			return fmt.Errorf("field %s: %w", name, err)
		}
		value.Kind, value.Span = JSON, d.batch.Put(text)
	}
	d.batch.Values = append(d.batch.Values, value)
	d.batch.Records[0].N++
	return nil
}

// uid takes an id apart: the stream's part, and the place.
func (d *Decoder) uid(text string) {
	if len(text) != UIDSize {
		return
	}
	if place, err := strconv.ParseUint(text[UIDSize-12:], 16, 64); err == nil {
		d.batch.UID, d.batch.Records[0].End = []byte(text[:UIDSize-12]), int64(place)
	}
}

// mask notes that a mask found something.
func (d *Decoder) mask(name string) {
	if len(d.batch.Masks) < 64 {
		d.batch.Records[0].Masked |= 1 << len(d.batch.Masks)
		d.batch.Masks = append(d.batch.Masks, name)
	}
}

func timeNote(word string) TimeNote {
	for n := TimeGood; n <= TimeGuessedDate; n++ {
		if n.String() == word {
			return n
		}
	}
	return TimeGood
}

func (d *Decoder) json(text []byte) error {
	var line struct {
		Time, Observed time.Time
		Level          string
		Body           string
		Original       *string
		Fields         json.RawMessage
		ID             string `json:"id"`
		Notes          struct {
			Parsed    *bool
			Truncated bool
			Fields    string
			Masked    []string
			Weight    float64
			Time      string
		}
	}
	if err := json.Unmarshal(text, &line); err != nil {
		return fmt.Errorf("a record in JSON: %w", err)
	}
	r := &d.batch.Records[0]
	r.Time, r.Observed, r.Level = line.Time.UnixNano(), line.Observed.UnixNano(), ParseLevel(line.Level)
	r.Body = d.batch.Put([]byte(line.Body))
	if line.Original != nil {
		r.Flags |= HasOriginal
		r.Original = d.batch.Put([]byte(*line.Original))
	}
	d.uid(line.ID)
	n := line.Notes
	if n.Parsed != nil && !*n.Parsed {
		r.Flags |= Unparsed
	}
	if n.Truncated {
		r.Flags |= Truncated
	}
	if n.Fields != "" {
		r.Flags |= MoreFields
	}
	for _, m := range n.Masked {
		d.mask(m)
	}
	r.Weight, r.TimeNote = n.Weight, timeNote(n.Time)
	return d.jsonFields(line.Fields)
}

// jsonFields reads an object in the order of its keys.
func (d *Decoder) jsonFields(text json.RawMessage) error {
	if len(text) == 0 {
		return nil
	}
	dec := json.NewDecoder(bytes.NewReader(text))
	dec.UseNumber()
	if _, err := dec.Token(); err != nil {
		return err
	}
	for dec.More() {
		key, err := dec.Token()
		if err != nil {
			return err
		}
		var v any
		if err := dec.Decode(&v); err != nil {
			return err
		}
		if n, ok := v.(json.Number); ok {
			if i, err := n.Int64(); err == nil {
				v = i
			} else if f, err := n.Float64(); err == nil {
				v = f
			}
		}
		if err := d.add(key.(string), v); err != nil {
			return err
		}
	}
	return nil
}

func (d *Decoder) otlp(text []byte) error {
	var scope logs.ScopeLogs
	if err := proto.Unmarshal(text, &scope); err != nil {
		return fmt.Errorf("a record in OTLP: %w", err)
	}
	if len(scope.LogRecords) != 1 {
		return fmt.Errorf("a record in OTLP: %d found", len(scope.LogRecords))
	}
	log := scope.LogRecords[0]
	r := &d.batch.Records[0]
	r.Time, r.Observed, r.Level = int64(log.TimeUnixNano), int64(log.ObservedTimeUnixNano), uint8(log.SeverityNumber)
	r.Body = d.batch.Put([]byte(log.GetBody().GetStringValue()))
	for _, a := range log.Attributes {
		switch v := a.GetValue(); a.Key {
		case "log.record.original":
			r.Flags |= HasOriginal
			r.Original = d.batch.Put([]byte(v.GetStringValue()))
		case fileAttribute, senderAttribute: // of the origin
		case "log.record.uid":
			d.uid(v.GetStringValue())
		case "synaxis.parsed":
			r.Flags |= Unparsed
		case "synaxis.truncated":
			r.Flags |= Truncated
		case "synaxis.fields":
			r.Flags |= MoreFields
		case "synaxis.time":
			r.TimeNote = timeNote(v.GetStringValue())
		case "synaxis.weight":
			r.Weight = v.GetDoubleValue()
		case "synaxis.masked":
			for _, m := range v.GetArrayValue().GetValues() {
				d.mask(m.GetStringValue())
			}
		default:
			if err := d.add(a.Key, plain(v)); err != nil {
				return err
			}
		}
	}
	return d.context(log)
}

// plain is a value as encoding/json knows it.
func plain(v *common.AnyValue) any {
	switch x := v.GetValue().(type) {
	case *common.AnyValue_StringValue:
		return x.StringValue
	case *common.AnyValue_BoolValue:
		return x.BoolValue
	case *common.AnyValue_IntValue:
		return x.IntValue
	case *common.AnyValue_DoubleValue:
		return x.DoubleValue
	case *common.AnyValue_BytesValue:
		return hex.EncodeToString(x.BytesValue)
	case *common.AnyValue_ArrayValue:
		out := []any{}
		for _, item := range x.ArrayValue.GetValues() {
			out = append(out, plain(item))
		}
		return out
	case *common.AnyValue_KvlistValue:
		out := map[string]any{}
		for _, kv := range x.KvlistValue.GetValues() {
			out[kv.Key] = plain(kv.Value)
		}
		return out
	}
	return nil
}

// ReadOrigin makes an origin of an ExportLogsServiceRequest with one resource and one scope, and answers its records
// as an Encoder wrote them.
func ReadOrigin(request []byte) (*Origin, [][]byte, error) {
	var req collogs.ExportLogsServiceRequest
	if err := proto.Unmarshal(request, &req); err != nil {
		return nil, nil, err
	}
	if len(req.ResourceLogs) != 1 || len(req.ResourceLogs[0].ScopeLogs) != 1 {
		return nil, nil, fmt.Errorf("%d resources, expected one", len(req.ResourceLogs))
	}
	rl := req.ResourceLogs[0]
	var host, id, file, sender string
	var labels []Label
	for _, a := range rl.GetResource().GetAttributes() {
		switch v := a.GetValue().GetStringValue(); a.Key {
		case "host.name":
			host = v
		case "host.id":
			id = v
		default:
			if len(a.Key) > 6 && a.Key[:6] == "label." {
				labels = append(labels, Label{a.Key[6:], v})
			}
		}
	}
	slices.SortFunc(labels, func(a, b Label) int { return bytes.Compare([]byte(a.Key), []byte(b.Key)) })
	var records [][]byte
	for _, log := range rl.ScopeLogs[0].LogRecords {
		for _, a := range log.Attributes {
			switch a.Key {
			case fileAttribute:
				file = a.GetValue().GetStringValue()
			case senderAttribute:
				sender = a.GetValue().GetStringValue()
			}
		}
		text, err := proto.Marshal(&logs.ScopeLogs{LogRecords: []*logs.LogRecord{log}})
		if err != nil {
			return nil, nil, err
		}
		records = append(records, text)
	}
	return originOf(host, id, rl.ScopeLogs[0].GetScope().GetName(), file, sender, labels), records, nil
}

// originOf is an origin of a file or of a sender.
func originOf(host, hostID, source, file, sender string, labels []Label) *Origin {
	if sender != "" {
		return NewSenderOrigin(host, hostID, source, sender, labels)
	}
	return NewOrigin(host, hostID, source, file, labels)
}

// ReadNDJSONOrigin makes an origin of a record in JSON.
func ReadNDJSONOrigin(text []byte) (*Origin, error) {
	var line struct {
		Host, Source, File, Sender string
		Labels                     map[string]string
	}
	if err := json.Unmarshal(text, &line); err != nil {
		return nil, fmt.Errorf("a record in JSON: %w", err)
	}
	var labels []Label
	for k, v := range line.Labels {
		labels = append(labels, Label{k, v})
	}
	slices.SortFunc(labels, func(a, b Label) int { return bytes.Compare([]byte(a.Key), []byte(b.Key)) })
	return originOf(line.Host, "", line.Source, line.File, line.Sender, labels), nil
}
