package desired

import (
	"context"
	"errors"
	"slices"
	"strconv"
	"strings"
	"time"

	"synaxis/internal/core/inventory"
	"synaxis/internal/core/render"
	"synaxis/internal/service/store"
)

// Moment is what a host was to run from a time on.
type Moment struct {
	store.Assignment
	Causes []string // why it is another one than the moment before
	Config string   // of a moment that was asked for
	Note   string   // what is not as it was
}

// History is what a host was to run, newest first. With a time it is the one moment that held then, with its config.
func (d *Desired) History(ctx context.Context, host string, at time.Time) (out []Moment, err error) {
	list, err := d.store.History(ctx, host)
	if err != nil {
		return nil, err
	}
	for i, a := range list {
		m := Moment{Assignment: a}
		if i+1 < len(list) {
			was := list[i+1]
			if was.Revision != a.Revision {
				m.Causes = []string{"revision"}
			}
			if was.Seen != nil && a.Seen != nil {
				if c := Causes(was.Seen, a.Seen); !slices.Equal(c, []string{Unknown}) {
					m.Causes = append(m.Causes, c...)
				}
			}
		}
		out = append(out, m)
	}
	if at.IsZero() {
		return out, nil
	}
	i := slices.IndexFunc(out, func(m Moment) bool { return !m.AssignedAt.After(at) })
	if i < 0 {
		return nil, store.Missingf("nothing is known of what %s was to run at %s", host, at.Format(time.RFC3339))
	}
	m := out[i]
	m.Config, m.Note, err = d.was(ctx, m.Assignment)
	return []Moment{m}, err
}

// was is the config of an earlier assignment: as it was kept, or rendered again from what it was rendered from.
func (d *Desired) was(ctx context.Context, a store.Assignment) (text, note string, err error) {
	m, err := d.store.Manifest(ctx, a.Hash)
	if err == nil {
		return m.Text, "", nil
	}
	if !errors.Is(err, store.ErrNotFound) {
		return "", "", err
	}
	if a.Seen == nil {
		return "", "its config is not kept any more, and what it was rendered from was not written down", nil
	}
	st, err := d.revisions.At(ctx, a.Revision)
	if err != nil {
		return "", "", err
	}
	secrets := map[string]int{}
	for _, s := range a.Seen.Secrets {
		name, version, _ := strings.Cut(s, "@")
		secrets[name], _ = strconv.Atoi(version)
	}
	h := inventory.Host{Name: a.Host, Labels: a.Seen.Labels, Settings: a.Seen.Settings, OS: a.Seen.OS,
		Arch:   a.Seen.Arch,
		System: a.Seen.System}
	r := render.NewFleet(render.Input{Catalogue: st.Catalogue, Changed: st.Changed, Secrets: secrets},
		inventory.NewIndex([]inventory.Host{h})).Host(a.Host)
	if r.Hash != a.Hash {
		note = "rendered again from what the host was like then; this version of the service renders it otherwise than " +
			"the one of that time did"
	}
	return r.Text(), note, nil
}
