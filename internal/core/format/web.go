package format

import (
	"bytes"
	"slices"

	"synaxis/internal/core/record"
)

// webFields are the names of web-common and web-combined, by the OpenTelemetry semantic conventions.
var webFields = []string{"client.address", "user.name", "http.request.method", "url.path", "url.query",
	"network.protocol.version", "http.response.status_code", "http.response.body.size",
	"http.request.header.referer", "user_agent.original", "url.original", "server.address", "server.port"}

// webKind reads access logs of web servers.
type webKind struct {
	slots    []uint16 // of webFields
	combined bool
}

// parse reads the NCSA common log format, and with combined two quoted texts more.
func (w *webKind) parse(p *reading, b *record.Batch, span record.Span) bool {
	return w.fast(p, b, span) || w.long(p, b, span)
}

// long reads any form.
func (w *webKind) long(p *reading, b *record.Batch, span record.Span) bool {
	line := b.Bytes(span)
	address := bytes.IndexByte(line, ' ')
	if address <= 0 {
		return false
	}
	start, client := 0, address
	for client > 0 && line[address-1] == ',' { // the client, and the proxies that it came through
		if client == address {
			client--
		}
		next := bytes.IndexByte(line[address+1:], ' ')
		if next <= 0 {
			return false
		}
		address += 1 + next
	}
	if client > 2 && line[0] == '"' && line[client-1] == '"' {
		start, client = 1, client-1
	}
	ident := bytes.IndexByte(line[address+1:], ' ')
	if ident <= 0 {
		return false
	}
	user := address + 1 + ident + 1
	open := bytes.Index(line[user:], []byte(" ["))
	if open <= 0 {
		return false
	}
	if k := bytes.IndexByte(line[user:user+open], ' '); k > 0 && user+open+2 < len(line) &&
		(ident != 1 || line[address+1] != '-') { // the site's host stands first
		site := address
		address = address + 1 + ident
		user = user + k + 1
		open -= k + 1
		w.site(p, b, span, site)
		return w.rest(p, b, span, site+1, address, user, open)
	}
	return w.rest(p, b, span, start, client, user, open)
}

// fast reads the usual form, byte by byte where parts are short, and answers false for anything else: it is then
// read in full.
func (w *webKind) fast(p *reading, b *record.Batch, span record.Span) bool {
	const stampLen = len("02/Apr/2031:06:15:09 +0100")
	line := b.Arena[span.Off : span.Off+span.Len : span.Off+span.Len]
	n, i := len(line), 0
	if i = bytes.IndexByte(line, ' '); i < 0 {
		return false
	}
	if i == 0 || line[0] == '"' || line[i-1] == ',' || n < i+stampLen+24 || line[i+1] != '-' || line[i+2] != ' ' {
		return false
	}
	address, user := i, i+3
	for i = user; i < n && line[i] != ' '; i++ {
	}
	if i == user || n < i+stampLen+20 {
		return false
	}
	userEnd, stamp := i, i+2
	request := stamp + stampLen + 3
	if line[stamp-1] != '[' || line[request-3] != ']' || line[request-2] != ' ' || line[request-1] != '"' {
		return false
	}
	i = wordEnd(line, request)
	method := i
	q := bytes.IndexByte(line[request:], '"')
	end := request + q
	if i == request || end < i+11 || line[i] != ' ' {
		return false
	}
	path, pathEnd, status := i+1, end-9, end+2
	if string(line[pathEnd:end-3]) != " HTTP/" || line[end-3]-'0' > 9 || line[end-2] != '.' || line[end-1]-'0' > 9 ||
		n < status+5 ||
		line[end+1] != ' ' ||
		line[status+3] != ' ' {
		return false
	}
	code := uint64(0)
	for _, c := range line[status : status+3] {
		if c < '0' || c > '9' {
			return false
		}
		code = code*10 + uint64(c-'0')
	}
	size := status + 4
	sent, sizeEnd, ok := digitsAt(line, size)
	if !ok {
		if line[size] != '-' {
			return false
		}
		sizeEnd = size + 1
	}
	if sizeEnd < n && line[sizeEnd] != ' ' {
		return false
	}
	referer, refererEnd, agent, agentEnd := 0, 0, 0, 0
	if w.combined {
		if n < sizeEnd+6 || line[sizeEnd+1] != '"' {
			return false
		}
		referer = sizeEnd + 2
		if q = bytes.IndexByte(line[referer:], '"'); q < 0 {
			return false
		}
		refererEnd = referer + q
		if agent = refererEnd + 3; n < agent+1 || line[agent-1] != '"' || line[agent-2] != ' ' {
			return false
		}
		if q = bytes.IndexByte(line[agent:], '"'); q < 0 {
			return false
		}
		agentEnd = agent + q
	}
	if p.slashes && bytes.IndexByte(line[request:], '\\') >= 0 {
		return false
	}
	if k, ok := p.stampOf(p.clock, line[stamp:stamp+stampLen]); !ok || k != stampLen {
		p.timeParsed, p.timeKnown = false, false
		return false
	}

	base, web := span.Off, (*[10]uint16)(w.slots)
	have := len(b.Values)
	b.Values = slices.Grow(b.Values, 10)[:have+10]
	out, k := (*[10]record.Value)(b.Values[have:]), 0
	if address != 1 || line[0] != '-' {
		out[k] = record.Value{Span: record.Span{Off: base, Len: uint32(address)}, Slot: web[0]}
		k++
	}
	if userEnd-user != 1 || line[user] != '-' {
		out[k] = record.Value{Span: record.Span{Off: base + uint32(user), Len: uint32(userEnd - user)}, Slot: web[1]}
		k++
	}
	out[k] = record.Value{Span: record.Span{Off: base + uint32(request), Len: uint32(method - request)}, Slot: web[2]}
	k++
	q = bytes.IndexByte(line[path:pathEnd], '?')
	if q < 0 {
		q = pathEnd - path
	}
	out[k] = record.Value{Span: record.Span{Off: base + uint32(path), Len: uint32(q)}, Slot: web[3]}
	k++
	if path+q < pathEnd {
		out[k] = record.Value{
			Span: record.Span{Off: base + uint32(path+q+1), Len: uint32(pathEnd - path - q - 1)},
			Slot: web[4],
		}
		k++
	}
	out[k] = record.Value{Span: record.Span{Off: base + uint32(end-3), Len: 3}, Slot: web[5]}
	out[k+1] = record.Value{
		Kind: record.Int,
		Num:  code,
		Span: record.Span{Off: base + uint32(status), Len: 3},
		Slot: web[6],
	}
	k += 2
	if line[size] != '-' {
		out[k] = record.Value{
			Kind: record.Int,
			Num:  sent,
			Span: record.Span{Off: base + uint32(size), Len: uint32(sizeEnd - size)},
			Slot: web[7],
		}
		k++
	}
	if w.combined {
		if refererEnd-referer != 1 || line[referer] != '-' {
			out[k] = record.Value{
				Span: record.Span{Off: base + uint32(referer), Len: uint32(refererEnd - referer)},
				Slot: web[8],
			}
			k++
		}
		if agentEnd-agent != 1 || line[agent] != '-' {
			out[k] = record.Value{
				Span: record.Span{Off: base + uint32(agent), Len: uint32(agentEnd - agent)},
				Slot: web[9],
			}
			k++
		}
	}
	b.Values = b.Values[:have+k]
	return true
}

// site takes the host of the site, with its port.
func (w *webKind) site(p *reading, b *record.Batch, span record.Span, end int) {
	line := b.Bytes(span)[:end]
	host := end
	if k := bytes.LastIndexByte(line, ':'); k > 0 {
		if port, ok := intValue(line[k+1:]); ok {
			host = k
			port.Span = sub(span, k+1, end)
			p.append(b, w.slots[12], port)
		}
	}
	p.append(b, w.slots[11], record.Value{Span: sub(span, 0, host)})
}

// rest reads what follows the user, whose text begins at user and has open bytes; the client's address stands from
// start to address.
func (w *webKind) rest(p *reading, b *record.Batch, span record.Span, start, address, user, open int) bool {
	line := b.Bytes(span)
	text := func(slot uint16, from, to int) {
		if to-from != 1 || line[from] != '-' {
			p.append(b, w.slots[slot], record.Value{Span: sub(span, from, to)})
		}
	}
	stamp := user + open + 2
	stampEnd := bytes.IndexByte(line[stamp:], ']')
	if stampEnd < 0 {
		return false
	}
	stampEnd += stamp
	request := spacesEnd(line, stampEnd+1) + 1
	if len(line) < request || request < stampEnd+3 || line[request-1] != '"' {
		return false
	}
	requestEnd, escaped := closing(line[request:])
	if requestEnd < 0 {
		return false
	}
	requestEnd += request
	rest := requestEnd + 1
	if len(line) < rest+4 || line[rest] != ' ' {
		return false
	}
	status, k, answered := digits(line[rest+1:], 3, 3)
	if !answered && line[rest+1] == '-' {
		k = 1
	} else if !answered {
		return false
	}
	if rest+1+k >= len(line) || line[rest+1+k] != ' ' {
		return false
	}
	size := rest + 2 + k
	sizeEnd := size
	for sizeEnd < len(line) && line[sizeEnd] != ' ' {
		sizeEnd++
	}
	bytesSent, isInt := intValue(line[size:sizeEnd])
	if !isInt && !(sizeEnd == size+1 && line[size] == '-') {
		return false
	}

	text(0, start, address)
	text(1, user, user+open)
	w.request(p, b, span, request, requestEnd, escaped)
	line = b.Bytes(span)
	if answered {
		p.append(b, w.slots[6], record.Value{Kind: record.Int, Num: uint64(status), Span: sub(span, rest+1, rest+1+k)})
	}
	if isInt {
		bytesSent.Span = sub(span, size, sizeEnd)
		p.append(b, w.slots[7], bytesSent)
	}
	if w.combined {
		for pos, slot := sizeEnd, uint16(8); slot <= 9; slot++ {
			if len(line) < pos+3 || line[pos] != ' ' || line[pos+1] != '"' {
				return false
			}
			from := pos + 2
			end, escaped := closing(line[from:])
			if end < 0 {
				return false
			}
			if escaped {
				p.append(b, w.slots[slot], escapedText(b, span, from, from+end))
				line = b.Bytes(span)
			} else {
				text(slot, from, from+end)
			}
			pos = from + end + 1
		}
	}
	v, n, ok := p.clock.read(line[stamp:stampEnd])
	if !ok || n != stampEnd-stamp { // some are told to write it otherwise
		if v, n, ok = recognise(line[stamp:stampEnd]); !ok || n != stampEnd-stamp || v.isEpoch {
			return false
		}
	}
	p.timeValue, p.timeParsed = v, true
	return true
}

func (w *webKind) request(p *reading, b *record.Batch, span record.Span, from, to int, escaped bool) {
	line := b.Bytes(span)
	request := line[from:to]
	method := bytes.IndexByte(request, ' ')
	last := bytes.LastIndexByte(request, ' ')
	old := !escaped && method > 0 && last == method && last+1 < len(request) &&
		request[last+1] == '/' // HTTP/0.9 has no version
	if old {
		last = len(request)
	} else if escaped || method <= 0 || last == method || !bytes.HasPrefix(request[last+1:], []byte("HTTP/")) {
		if len(request) != 1 || request[0] != '-' {
			whole := record.Value{Span: sub(span, from, to)}
			if escaped {
				whole = escapedText(b, span, from, to)
			}
			p.append(b, w.slots[10], whole)
		}
		return
	}
	p.append(b, w.slots[2], record.Value{Span: sub(span, from, from+method)})
	path, end := from+method+1, from+last
	if q := bytes.IndexByte(line[path:end], '?'); q >= 0 {
		p.append(b, w.slots[3], record.Value{Span: sub(span, path, path+q)})
		p.append(b, w.slots[4], record.Value{Span: sub(span, path+q+1, end)})
	} else {
		p.append(b, w.slots[3], record.Value{Span: sub(span, path, end)})
	}
	if !old {
		p.append(b, w.slots[5], record.Value{Span: sub(span, from+last+6, to)})
	}
}
