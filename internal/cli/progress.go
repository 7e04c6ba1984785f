package cli

import (
	"io"
	"os"

	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"
	"golang.org/x/term"

	"synaxis/internal/contract"
)

// progress is a bar on a terminal; elsewhere it is nothing.
type progress struct {
	app    *app
	before io.Writer
	all    *mpb.Progress
	bar    *mpb.Bar
}

// progress begins a bar where people look at it.
func (a *app) progress(name string) *progress {
	to, _ := a.out.(*printable)
	if to == nil || a.output != "table" {
		return &progress{}
	}
	f, _ := to.to.(*os.File)
	if f == nil || !term.IsTerminal(int(f.Fd())) {
		return &progress{}
	}
	p := mpb.New(mpb.WithWidth(40), mpb.WithOutput(f))
	a.out = &printable{to: p} // above the bar
	return &progress{app: a, before: to, all: p, bar: p.New(0, mpb.BarStyle(),
		mpb.PrependDecorators(decor.Name(name+" ")),
		mpb.AppendDecorators(decor.CountersNoUnit("%d of %d hosts")),
		mpb.BarRemoveOnComplete())}
}

// set shows how many hosts have it.
func (p *progress) set(r contract.Rollout) {
	if p.bar == nil {
		return
	}
	total := 0
	for state, n := range r.Counts {
		if state != "left out" && state != "deferred" {
			total += n
		}
	}
	p.bar.SetTotal(int64(total), false)
	p.bar.SetCurrent(int64(r.Counts["confirmed"]))
}

// end takes the bar away.
func (p *progress) end() {
	if p.bar != nil {
		p.bar.Abort(true)
		p.all.Wait()
		p.app.out, p.bar = p.before, nil
	}
}
