package api

import (
	"bytes"
	"context"
	"fmt"
	"time"

	"synaxis/internal/contract"
	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/format"
	"synaxis/internal/core/inventory"
	"synaxis/internal/core/lines"
	"synaxis/internal/core/workbench"
	"synaxis/internal/service/agents"
	"synaxis/internal/service/store"
)

// log checks a log that is tried, which is given as characters or as bytes.
func (a *API) log(text *string, raw *[]byte) ([]byte, error) {
	if text != nil && raw != nil {
		return nil, usage{"log and bytes exclude each other"}
	}
	data := append([]byte(value(text)), value(raw)...)
	if len(data) > workbench.MaxLog {
		return nil, usage{
			fmt.Sprintf("the log has %d bytes; at most %d are tried at once", len(data), workbench.MaxLog),
		}
	}
	if len(bytes.TrimSpace(data)) == 0 {
		return nil, usage{"there are no lines to try"}
	}
	return data, nil
}

// ReadText makes the bytes of a log into characters.
func (a *API) ReadText(_ context.Context, r contract.ReadTextRequestObject) (contract.ReadTextResponseObject, error) {
	data, more, err := workbench.Unpack(r.Body.Bytes, workbench.MaxLog)
	if err != nil {
		return nil, usage{err.Error()}
	}
	if !lines.IsText(data, lines.Detect(data)) {
		return nil, usage{lines.NotText}
	}
	text, encoding := workbench.Text(data)
	if i := bytes.LastIndexByte(text, '\n'); more && i >= 0 { // the last line may be a part of one
		text = text[:i+1]
	}
	return contract.ReadText200JSONResponse{Log: string(text), Encoding: encoding, More: more}, nil
}

// GuessLog finds out how a log is written.
func (a *API) GuessLog(
	ctx context.Context,
	r contract.GuessLogRequestObject,
) (contract.GuessLogResponseObject, error) {
	data, err := a.log(r.Body.Log, r.Body.Bytes)
	if err != nil {
		return nil, err
	}
	name, zone := value(r.Body.Name), value(r.Body.Zone)
	if name == "" {
		name = "guessed"
	}
	if why := catalogue.CheckName(name); why != "" {
		return nil, usage{why}
	}
	if zone != "" {
		if err := format.CheckZone(zone); err != nil {
			return nil, usage{err.Error()}
		}
	}
	cat, err := a.Changes.Catalogue(ctx, 0)
	if err != nil {
		return nil, err
	}
	own, err := workbench.Finders(cat)
	if err != nil {
		return nil, err
	}
	_, shown := workbench.Guess(data, name, zone, a.written(r.Body.Modified), own)
	return contract.GuessLog200JSONResponse{Candidates: shown}, nil
}

// CarveField makes a part of a line a field.
func (a *API) CarveField(
	_ context.Context,
	r contract.CarveFieldRequestObject,
) (contract.CarveFieldResponseObject, error) {
	template, typ, err := format.Carve(
		r.Body.Template,
		r.Body.Line,
		r.Body.Start,
		r.Body.End,
		r.Body.Name,
		value(r.Body.Type),
	)
	if err != nil {
		return nil, usage{err.Error()}
	}
	return contract.CarveField200JSONResponse{Template: template, Type: typ}, nil
}

// over is the catalogue of a draft, or of the newest revision, with definitions laid over it.
func (a *API) over(
	ctx context.Context,
	draft *int,
	definitions *string,
) (*catalogue.Catalogue, []workbench.Problem, error) {
	cat, err := a.Changes.Catalogue(ctx, value(draft))
	if err != nil {
		return nil, nil, err
	}
	cat, _, problems := workbench.Over(cat, value(definitions))
	return cat, problems, nil
}

// TryLog tries a source or a format on a log.
func (a *API) TryLog(ctx context.Context, r contract.TryLogRequestObject) (contract.TryLogResponseObject, error) {
	data, err := a.log(r.Body.Log, r.Body.Bytes)
	if err != nil {
		return nil, err
	}
	source, name := value(r.Body.Source), value(r.Body.Format)
	if (source == "") == (name == "") {
		return nil, usage{"say what is tried: a source, or a format"}
	}
	cat, problems, err := a.over(ctx, r.Body.Draft, r.Body.Definitions)
	if err != nil {
		return nil, err
	}
	o := workbench.Options{
		Zone:     value(r.Body.Zone),
		Begin:    value(r.Body.Begin),
		Unread:   value(r.Body.Unread),
		Most:     value(r.Body.Most),
		Observed: a.written(r.Body.Modified),
	}
	if r.Body.Bytes == nil { // characters already
		o.Encoding = "utf-8"
	}
	if o.Host, err = a.hostFor(cat, source, value(r.Body.Host)); err != nil {
		return nil, err
	}
	var out workbench.Result
	if source != "" {
		out = workbench.Source(cat, source, data, o)
	} else {
		out = workbench.Format(cat, name, data, o)
	}
	out.Problems = append(problems, out.Problems...)
	if out.Problems == nil {
		out.Problems = []workbench.Problem{}
	}
	return contract.TryLog200JSONResponse(out), nil
}

// written is when a log was last written: the time by which its dates without a year are measured.
func (a *API) written(modified *time.Time) time.Time {
	if modified == nil {
		return a.Now()
	}
	return *modified
}

// hostFor is the host that is named, or the first that a source chooses; nil when there is none.
func (a *API) hostFor(cat *catalogue.Catalogue, source, name string) (*inventory.Host, error) {
	if name != "" {
		v, ok := a.Hosts.Get(name)
		if !ok {
			return nil, store.Missingf("there is no host %s", name)
		}
		h := v.Inventory()
		return &h, nil
	}
	d := cat.Get("source", source)
	if d == nil {
		return nil, nil
	}
	index := a.Inventory.Index()
	for i := range index.Hosts {
		if d.Source.Hosts.Match(&index.Hosts[i]) {
			return &index.Hosts[i], nil
		}
	}
	return nil, nil
}

// ScanLog looks for private data in a log.
func (a *API) ScanLog(ctx context.Context, r contract.ScanLogRequestObject) (contract.ScanLogResponseObject, error) {
	data, err := a.log(r.Body.Log, r.Body.Bytes)
	if err != nil {
		return nil, err
	}
	cat, problems, err := a.over(ctx, r.Body.Draft, r.Body.Definitions)
	if err != nil {
		return nil, err
	}
	if len(problems) > 0 {
		return nil, usage{fmt.Sprintf("line %d of the definitions: %s", problems[0].Line, problems[0].Reason)}
	}
	finders, err := workbench.Finders(cat)
	if err != nil {
		return nil, usage{err.Error()}
	}
	data = workbench.Scannable(data)
	out := contract.ScanLog200JSONResponse{
		Lines: bytes.Count(bytes.TrimSuffix(data, []byte("\n")), []byte("\n")) + 1,
		Hits:  []workbench.Hit{},
	}
	for _, f := range workbench.Scan(data, finders) {
		out.Hits = append(out.Hits, f.Hit)
	}
	return out, nil
}

// GetCoverage holds every source against every guard.
func (a *API) GetCoverage(
	ctx context.Context,
	r contract.GetCoverageRequestObject,
) (contract.GetCoverageResponseObject, error) {
	cat, err := a.Changes.Catalogue(ctx, value(r.Params.Draft))
	if err != nil {
		return nil, err
	}
	list, guards := workbench.Covered(cat)
	return contract.GetCoverage200JSONResponse{Sources: list, Guards: guards}, nil
}

// ReadHostLines reads the last lines of a file of a host.
func (a *API) ReadHostLines(
	ctx context.Context,
	r contract.ReadHostLinesRequestObject,
) (contract.ReadHostLinesResponseObject, error) {
	last, err := a.Agents.ReadLines(ctx, person(ctx), r.Host, r.Params.Path, value(r.Params.Lines))
	if err != nil {
		return nil, err
	}
	return contract.ReadHostLines200JSONResponse(last), nil
}

// ListUncollected lists the logs of a host that no source takes.
func (a *API) ListUncollected(
	ctx context.Context,
	r contract.ListUncollectedRequestObject,
) (contract.ListUncollectedResponseObject, error) {
	folders, err := a.logFolders(ctx, r.Host)
	if err != nil {
		return nil, err
	}
	logs, err := a.Agents.Uncollected(ctx, person(ctx), r.Host, folders)
	if err != nil {
		return nil, err
	}
	out := contract.ListUncollected200JSONResponse{
		Folders: append([]string{}, logs.Folders...),
		More:    logs.More,
		Items:   []contract.UncollectedLog{},
	}
	for _, l := range logs.Items {
		out.Items = append(
			out.Items,
			contract.UncollectedLog{
				Path:     l.Path,
				Size:     l.Size,
				Modified: l.Modified,
				Rate:     l.Rate,
				Program:  optional(l.Program),
				Kind:     l.Kind,
				Share:    l.Share,
				NoZone:   optional(l.NoZone),
				Encoding: optional(l.Encoding),
			},
		)
	}
	return out, nil
}

// logFolders are the folders that the settings of a host name.
func (a *API) logFolders(ctx context.Context, host string) ([]string, error) {
	h, ok := a.Hosts.Get(host)
	if !ok {
		return nil, store.Missingf("there is no host %s", host)
	}
	cat, err := a.Changes.Catalogue(ctx, 0)
	if err != nil {
		return nil, err
	}
	x := h.Inventory()
	settings, _ := cat.Layers(&x, nil)
	return agents.LogFolders(settings), nil
}

// DraftSource turns a log of a host into a source and a format.
func (a *API) DraftSource(
	ctx context.Context,
	r contract.DraftSourceRequestObject,
) (contract.DraftSourceResponseObject, error) {
	h, ok := a.Hosts.Get(r.Host)
	if !ok {
		return nil, store.Missingf("there is no host %s", r.Host)
	}
	who := person(ctx)
	last, err := a.Agents.ReadLines(ctx, who, r.Host, r.Body.Path, 0)
	if err != nil {
		return nil, err
	}
	if len(last.Lines) == 0 {
		return nil, usage{r.Body.Path + " holds no lines to guess from"}
	}
	cat, err := a.Changes.Catalogue(ctx, value(r.Body.Draft))
	if err != nil {
		return nil, err
	}
	x := h.Inventory()
	settings, _ := cat.Layers(&x, nil)
	p, err := workbench.Propose(
		cat,
		workbench.Proposal{
			Host:     x,
			Settings: settings,
			Path:     r.Body.Path,
			Lines:    last.Lines,
			Encoding: last.Encoding,
			Name:     value(r.Body.Name),
			Zone:     value(r.Body.Zone),
			To:       value(r.Body.To),
			Observed: last.Modified,
		},
	)
	if err != nil {
		return nil, usage{err.Error()}
	}
	draft := value(r.Body.Draft)
	if draft == 0 {
		d, _, err := a.Changes.Load(ctx, who, fmt.Sprintf("Collect %s", r.Body.Path), false, nil)
		if err != nil {
			return nil, err
		}
		draft = d.ID
	}
	for _, d := range p.Definitions {
		if _, err := a.Changes.Put(ctx, who, draft, d.Kind, d.Name, d.Text, "*"); err != nil {
			return nil, err
		}
	}
	return contract.DraftSource201JSONResponse{
		Draft:       draft,
		Source:      p.Source,
		Format:      p.Format,
		Definitions: p.Text(),
	}, nil
}
