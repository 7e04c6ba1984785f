package agents

import (
	"net/http"

	colmetrics "go.opentelemetry.io/proto/otlp/collector/metrics/v1"
	"google.golang.org/protobuf/proto"

	"synaxis/internal/core/wire"
	"synaxis/internal/service/membership"
)

// numbers takes the numbers of an agent.
func (a *Agents) numbers(uid string, req *colmetrics.ExportMetricsServiceRequest) {
	h, ok := a.p.Inventory.ByUID(uid)
	if !ok {
		return
	}
	numbers, start, at := wire.DecodeNumbers(req)
	if p, at, ok := wire.DecodeProcess(req); ok {
		a.p.Reports.TakeProcess(h.Name, p, at)
	}
	a.p.Reports.TakeNumbers(h.Name, numbers, start, at)
	a.p.Reports.TakeDestinations(h.Name, wire.DecodeDestinations(req))
	a.p.Hosts.Touch(h.Name)
}

// ServeMetrics takes an agent's own numbers as OTLP.
func (a *Agents) ServeMetrics(w http.ResponseWriter, r *http.Request) {
	who, err := a.p.Membership.Authenticate(r.Header.Get("Authorization"))
	if err == nil && who.Credential == nil {
		err = membership.Denied{Words: "numbers are taken from agents that have joined"}
	}
	if err != nil {
		a.deny(w, err)
		return
	}
	if !a.requests.enter(r.Context(), who) {
		busy(w)
		return
	}
	defer a.requests.leave(who)
	req := &colmetrics.ExportMetricsServiceRequest{}
	if !readBody(w, r, wire.MaxMetrics, req) {
		return
	}
	a.numbers(who.Credential.UID, req)
	w.Header().Set("Content-Type", "application/x-protobuf")
	out, _ := proto.Marshal(&colmetrics.ExportMetricsServiceResponse{})
	_, _ = w.Write(out)
}
