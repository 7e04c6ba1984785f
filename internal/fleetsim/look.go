package fleetsim

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"time"
)

// lookEvery is how long somebody waits who looks at pages before he looks again.
const lookEvery = 250 * time.Millisecond

// LookToken is the variable of the environment that has the token of Look.
const LookToken = "SYNAXIS_TOKEN"

// Look asks for addresses one after the other, again and again until ctx ends, as somebody does who looks at pages. It
// writes how many microseconds each answer took.
func Look(ctx context.Context, addresses []string, out io.Writer) error {
	token := os.Getenv(LookToken)
	for {
		for _, address := range addresses {
			req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
			if err != nil {
				return err
			}
			req.Header.Set("Authorization", "Bearer "+token)
			began := time.Now()
			resp, err := http.DefaultClient.Do(req)
			if ctx.Err() != nil {
				return nil
			}
			if err != nil {
				return err
			}
			_, err = io.Copy(io.Discard, resp.Body)
			resp.Body.Close()
			switch {
			case ctx.Err() != nil:
				return nil
			case err != nil:
				return err
			case resp.StatusCode != http.StatusOK:
				return fmt.Errorf("%s answered %s", address, resp.Status)
			}
			fmt.Fprintln(out, time.Since(began).Microseconds())
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(lookEvery):
		}
	}
}

// look looks from a process of its own, since this one is busy with being a fleet: ten thousand hosts on the same two
// cores would be timed as well. What it answers ends that, and tells how long the answers took.
func (s *Simulation) look(ctx context.Context, paths ...string) (func() ([]time.Duration, error), error) {
	args := []string{"look"}
	for _, p := range paths {
		args = append(args, s.address+"/api/v1"+p)
	}
	cmd := exec.CommandContext(ctx, filepath.Join(s.Options.Bin, "synaxis-demo"), args...)
	cmd.Env = append(os.Environ(), LookToken+"="+s.token)
	cmd.Cancel = func() error { return cmd.Process.Signal(os.Interrupt) }
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	cmd.Stderr = s.Options.Out
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	took := make(chan []time.Duration, 1)
	go func() {
		var all []time.Duration
		for lines := bufio.NewScanner(out); lines.Scan(); {
			if n, err := strconv.Atoi(lines.Text()); err == nil {
				all = append(all, time.Duration(n)*time.Microsecond)
			}
		}
		took <- all
	}()
	return func() ([]time.Duration, error) {
		_ = cmd.Process.Signal(os.Interrupt)
		all := <-took
		if err := cmd.Wait(); err != nil {
			return nil, fmt.Errorf("looking at pages: %w", err)
		}
		if len(all) < 10 {
			return nil, fmt.Errorf("%d answers are too few to tell how long they take", len(all))
		}
		return all, nil
	}, nil
}
