package api

import "sync"

// askedAtOnce bounds how many hosts are asked at the same time.
const askedAtOnce = 32

// eachHost asks hosts, some at the same time, and gives what each answers, or why it does not, one after the other.
func eachHost[T any](names []string, ask func(host string) (T, error), take func(host string, v T, err error)) {
	var mu sync.Mutex
	var wait sync.WaitGroup
	free := make(chan struct{}, askedAtOnce)
	for _, name := range names {
		free <- struct{}{}
		wait.Go(func() {
			defer func() { <-free }()
			v, err := ask(name)
			mu.Lock()
			defer mu.Unlock()
			take(name, v, err)
		})
	}
	wait.Wait()
}
