package run

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"synaxis/internal/agent/deliver"
	"synaxis/internal/core/record"
	"synaxis/internal/core/wire"
)

// DestinationNumbers tells how destinations are, beside what became of each source's records. Those that left the
// config are among them while they are delivered, and while they have rejects.
func (e *Engine) DestinationNumbers() map[string]wire.Destination {
	e.mu.RLock()
	defer e.mu.RUnlock()
	dests := e.delivering()
	names := e.rejects.Destinations()
	out := map[string]wire.Destination{}
	for name, d := range dests {
		names = append(names, name)
		n := wire.Destination{Room: d.Spec.Buffer.Disk, Answers: d.Answered()}
		if f := e.filling[name]; f != nil {
			n.FullIn = int64(f.full / time.Second)
		}
		out[name] = n
	}
	for _, name := range names {
		groups, gone, err := e.rejects.Summary(name)
		if err != nil || dests[name] == nil && len(groups) == 0 {
			continue
		}
		n := out[name]
		n.RejectsGone, n.Rejects, n.RejectBytes = gone, 0, 0
		for _, g := range groups {
			n.Rejects += g.Records
			n.RejectBytes += g.Bytes
		}
		out[name] = n
	}
	return out
}

// answerRejects answers questions about rejects; ok is false for another kind.
func (e *Engine) answerRejects(ctx context.Context, kind string, ask wire.Ask) (reply wire.Reply, ok bool) {
	reply.ID = ask.ID
	f := deliver.RejectFilter{Cause: ask.Cause, Source: ask.Source, After: ask.After}
	out := &wire.Rejects{}
	var err error
	switch kind {
	case wire.AskRejects:
		var groups []deliver.RejectGroup
		groups, out.Gone, err = e.rejects.Summary(ask.Destination)
		for _, g := range groups {
			out.Groups = append(out.Groups, wire.RejectGroup{Cause: g.Cause, Reason: g.Reason, Source: g.Source,
				Records: g.Records, Bytes: g.Bytes, First: g.First, Last: g.Last})
		}
	case wire.AskRejectRecords:
		most := wire.MaxRejectRecords
		if ask.Lines > 0 {
			most = min(most, ask.Lines)
		}
		var list []deliver.Reject
		list, out.More, err = e.rejects.List(ask.Destination, f, most, wire.MaxRejectBytes)
		for _, x := range list {
			text, rerr := readable(x)
			if rerr != nil {
				text, _ = json.Marshal(map[string]string{"unreadable": rerr.Error()})
			}
			out.Records = append(out.Records, wire.RejectRecord{Number: x.Number, Rejected: x.Rejected, Cause: x.Cause,
				Reason: x.Reason, Source: x.Source, Record: text})
		}
	case wire.AskDiscard:
		out.Done, err = e.rejects.Remove(ask.Destination, f)
		e.log.Warn("rejects were discarded by the desk", "destination", ask.Destination, "cause", ask.Cause,
			"records", out.Done)
	case wire.AskResend:
		d := e.dest(ask.Destination)
		if d == nil {
			err = fmt.Errorf("the destination %s is not in the host's config", ask.Destination)
			break
		}
		var r deliver.Resent
		if r, err = d.Resend(ctx, f, int64(ask.Lines)); err == nil {
			out.Done, out.More, out.Answer = r.Sent, r.Left, r.Answer
		}
	default:
		return reply, false
	}
	if err != nil {
		reply.Error = err.Error()
		return reply, true
	}
	reply.Rejects = out
	return reply, true
}

// readable is a reject as a line of JSON.
func readable(x deliver.Reject) (json.RawMessage, error) {
	if x.OTLP == nil {
		return x.Record, nil
	}
	o, records, err := record.ReadOrigin(x.OTLP)
	if err != nil {
		return nil, err
	}
	e := record.Encoded{Encoding: record.OTLP, Origin: o}
	for _, text := range records {
		e.Bytes = append(e.Bytes, text...)
		e.Ends = append(e.Ends, uint32(len(e.Bytes)))
	}
	lines, err := record.Transcode(e, record.NDJSON)
	if err != nil {
		return nil, err
	}
	defer lines.Release()
	return append(json.RawMessage(nil), lines.Bytes[:len(lines.Bytes)-1]...), nil
}
