// Package footprint says what an agent may use of its host, and how often it reports.
package footprint

import (
	"fmt"
	"time"

	"synaxis/internal/core/schema"
	"synaxis/internal/core/yamldoc"
)

// Spec is what an agents definition says of an agent.
type Spec struct {
	CPU    float64 // share of one processor; 0 is no ceiling
	Memory int64   // bytes; 0 is no ceiling
	Disk   int64
	Every  time.Duration // between reports; 0 is the agent's own
	Away   time.Duration // so long an absence is normal; at the desk only
}

// Keys are what an agents definition and a host config share.
var Keys = []schema.Key{
	{Name: "limits", Value: schema.Obj(
		"limits",
		schema.Key{Name: "cpu", Value: schema.Checked("schema", checkCPU), Doc: "Share of one processor."},
		schema.Key{Name: "memory", Value: schema.ASize, Doc: "Memory that the agent keeps below."},
		schema.Key{
			Name:  "disk",
			Part:  "disk-limit",
			Value: schema.ASize,
			Doc:   "Room for buffers, rejects and positions together.",
		},
	), Doc: "What the agent may use. The unit that the join script makes has the same ceilings for cpu and memory.",
		Example: "limits: {cpu: 20%, memory: 64MiB}"},
	{Name: "report", Value: schema.Obj(
		"report",
		schema.Key{
			Name:    "every",
			Value:   schema.ADuration,
			Default: "10s",
			Doc:     "How often the agent reports its numbers.",
		},
	), Doc: "When the agent reports.", Example: "report: {every: 30s}"},
	{
		Name:    "away",
		Desk:    true,
		Value:   schema.ADuration,
		Doc:     "So long an absence is normal for these hosts: it is shown and alarms nobody.",
		Example: "away: 12h",
	},
}

// Decode takes a spec out of a document that Keys found good.
func Decode(n *yamldoc.Node) Spec {
	limits := n.Get("limits")
	s := Spec{
		Memory: limits.Get("memory").Size(0),
		Disk:   limits.Get("disk").Size(0),
		Every:  n.Get("report").Get("every").Duration(0),
		Away:   n.Get("away").Duration(0),
	}
	s.CPU, _ = yamldoc.ParseShare(limits.Get("cpu").Text())
	return s
}

func checkCPU(s string) error {
	v, err := yamldoc.ParseShare(s)
	if err == nil && v < 0.01 {
		err = fmt.Errorf("%q leaves the agent nothing to run with", s)
	}
	return err
}
