package desired

import (
	"maps"
	"slices"
	"strings"

	"synaxis/internal/core/render"
	"synaxis/internal/service/store"
)

// Causes of what a host should run, beside another revision.
const (
	Labels   = "labels"
	Settings = "settings"
	System   = "system"    // what the agent reports of its host
	Renderer = "renderer"  // this version of the service renders it otherwise
	Unknown  = "inventory" // what it was rendered from was not written down
)

// secretCause is the cause that a secret has another version.
const secretCause = "secret "

// seen is what a manifest was rendered from.
func seen(f *render.Fleet, m *render.Manifest) *store.Seen {
	s := &store.Seen{Renderer: render.RendererVersion, Secrets: m.Secrets()}
	if i, ok := f.Index.Position(m.Host); ok {
		h := &f.Index.Hosts[i]
		s.Labels, s.Settings, s.OS, s.Arch, s.System = h.Labels, h.Settings, h.OS, h.Arch, h.System
	}
	return s
}

// Causes tells why a manifest of the same revision is another one now, from what it was rendered from before.
func Causes(was, now *store.Seen) (out []string) {
	if was == nil {
		return []string{Unknown}
	}
	if !maps.Equal(was.Labels, now.Labels) {
		out = append(out, Labels)
	}
	if !maps.Equal(was.Settings, now.Settings) {
		out = append(out, Settings)
	}
	if was.OS != now.OS || was.Arch != now.Arch || was.System != now.System {
		out = append(out, System)
	}
	names := map[string]bool{}
	for _, list := range [][]string{was.Secrets, now.Secrets} {
		for _, s := range list {
			if !slices.Contains(was.Secrets, s) || !slices.Contains(now.Secrets, s) {
				name, _, _ := strings.Cut(s, "@")
				names[secretCause+name] = true
			}
		}
	}
	out = append(out, slices.Sorted(maps.Keys(names))...)
	if was.Renderer != now.Renderer {
		out = append(out, Renderer)
	}
	if len(out) == 0 {
		return []string{Unknown}
	}
	return out
}
