package contract

import "synaxis/internal/core/check"

// FindingsOf gives findings of the core in the form of the API. No list in them is nil, so that each has its key in
// JSON.
func FindingsOf(list []check.Finding) []Finding {
	out := make([]Finding, 0, len(list))
	for _, f := range list {
		hosts := f.Hosts
		if hosts == nil {
			hosts = []string{}
		}
		out = append(
			out,
			Finding{
				Code:     f.Code,
				Severity: Severity(f.Severity),
				Kind:     f.Kind,
				Name:     f.Name,
				File:     f.File,
				Line:     f.Line,
				Column:   f.Column,
				Hosts:    hosts,
				Reason:   f.Reason,
				Fix:      f.Fix,
			},
		)
	}
	return out
}
