// Package produce reads what has no file and no sender: the output of programs, the system's journal, and records that
// are made up.
package produce

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"time"
)

// Bounds of running programs.
const (
	lastWords  = 1 << 10          // bytes that are kept of what it says on standard error
	chunkSize  = 64 << 10         // of its output
	endWithin  = 2 * time.Second  // of being asked to
	firstPause = time.Second      // before a program that ended is started again
	mostPause  = 5 * time.Minute  // it doubles up to there
	ranWell    = time.Minute      // a program that ran so long begins again with the first pause
	leastRun   = 10 * time.Second // that a program may take, however often it is run
)

// words keep the last of what is written.
type words struct {
	mu    sync.Mutex
	text  []byte
	fresh chan struct{} // one token when something was written
}

func (w *words) Write(p []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	select {
	case w.fresh <- struct{}{}:
	default:
	}
	w.text = append(w.text, p...)
	if n := len(w.text) - lastWords; n > 0 {
		w.text = append(w.text[:0], w.text[n:]...)
	}
	return len(p), nil
}

// last is the last line.
func (w *words) last() string {
	w.mu.Lock()
	defer w.mu.Unlock()
	lines := strings.Split(strings.TrimSpace(strings.ToValidUTF8(string(w.text), "")), "\n")
	return strings.TrimSpace(lines[len(lines)-1])
}

// running is a program at work.
type running struct {
	cmd    *exec.Cmd
	out    chan []byte // its output, closed at the end
	errors words
	done   chan error
}

// begin starts a program, in a group of its own that ends with it.
func begin(ctx context.Context, run []string) (*running, error) {
	if len(run) == 0 {
		return nil, errors.New("there is no program to run")
	}
	r := &running{out: make(chan []byte, 4), done: make(chan error, 1), errors: words{fresh: make(chan struct{}, 1)}}
	r.cmd = exec.Command(run[0], run[1:]...)
	r.cmd.Stderr = &r.errors
	r.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	r.cmd.WaitDelay = endWithin // for what the program started, and left with its output open
	pipe, err := r.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	started := make(chan error)
	go r.run(ctx, pipe, started)
	if err := <-started; err != nil {
		return nil, fmt.Errorf("%s cannot be run: %w", run[0], err)
	}
	return r, nil
}

// run starts the program, reads its output and waits for its end. All of that is done by one thread of the system:
// the program ends when the thread does that started it.
func (r *running) run(ctx context.Context, pipe io.ReadCloser, started chan<- error) {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	err := r.cmd.Start()
	started <- err
	if err != nil {
		return
	}
	group := -r.cmd.Process.Pid
	stop := context.AfterFunc(ctx, func() {
		_ = syscall.Kill(group, syscall.SIGTERM)
		time.AfterFunc(endWithin, func() { pipe.Close() }) // of what does not end; then it is killed
	})
	for {
		b := make([]byte, chunkSize)
		n, err := pipe.Read(b)
		if n > 0 {
			select {
			case r.out <- b[:n]:
			case <-ctx.Done():
			}
		}
		if err != nil {
			break
		}
	}
	close(r.out)
	if ctx.Err() != nil {
		_ = syscall.Kill(group, syscall.SIGKILL)
	}
	err = r.cmd.Wait()
	stop()
	_ = syscall.Kill(group, syscall.SIGKILL) // what it started and left
	r.done <- err
}

// why says how a program ended that said something last.
func why(program string, err error, said string) string {
	if err == nil {
		return ""
	}
	text := fmt.Sprintf("%s ended with an error: %v", program, err)
	if said != "" {
		text += "; it said: " + said
	}
	return text
}

// List runs a program to its end and answers the lines that it prints; within bounds of time and size.
func List(ctx context.Context, run []string, most int) ([]string, error) {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	r, err := begin(ctx, run)
	if err != nil {
		return nil, err
	}
	var all bytes.Buffer
	for b := range r.out {
		if all.Len() < most {
			all.Write(b)
		}
	}
	err = <-r.done
	switch {
	case ctx.Err() != nil:
		return nil, fmt.Errorf("%s did not end within a minute, and was stopped", run[0])
	case err != nil:
		return nil, errors.New(why(run[0], err, r.errors.last()))
	case all.Len() >= most:
		return nil, fmt.Errorf("%s prints more than %d bytes", run[0], most)
	}
	var out []string
	for line := range strings.Lines(all.String()) {
		if line = strings.TrimSpace(line); line != "" {
			out = append(out, line)
		}
	}
	return out, nil
}
