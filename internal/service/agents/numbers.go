package agents

import (
	"net/http"

	colmetrics "go.opentelemetry.io/proto/otlp/collector/metrics/v1"
	"google.golang.org/protobuf/proto"

	"synaxis/internal/core/wire"
	"synaxis/internal/service/membership"
)

// numbers takes the numbers of an agent.
func (a *Agents) numbers(uid string, r wire.Report) {
	if h, ok := a.p.Inventory.ByUID(uid); ok {
		a.p.Reports.TakeNumbers(h.Name, r)
		a.p.Hosts.Touch(h.Name)
	}
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
	var report wire.Report
	if !readBody(w, r, wire.MaxMetrics, "ExportMetricsServiceRequest", func(text []byte) (err error) {
		report, err = wire.ReadReport(text)
		return err
	}) {
		return
	}
	a.numbers(who.Credential.UID, report)
	w.Header().Set("Content-Type", "application/x-protobuf")
	out, _ := proto.Marshal(&colmetrics.ExportMetricsServiceResponse{})
	_, _ = w.Write(out)
}
