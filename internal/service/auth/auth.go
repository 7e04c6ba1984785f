// Package auth tells who calls: the holder of the admin's API token, or a browser that was signed in with it or by a
// one-time link.
package auth

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"synaxis/internal/contract"
	"synaxis/internal/service/store"
)

// CookieName is the cookie of a signed-in browser.
const CookieName = "synaxis_session"

// Times for which things are good.
const (
	sessionLasts = 12 * time.Hour
	codeLasts    = 10 * time.Minute
)

// Auth holds the token and the open codes.
type Auth struct {
	store *store.Store
	now   func() time.Time
	token [sha256.Size]byte

	readsHosts bool // whether anybody may see lines of logs on hosts

	mu    sync.Mutex
	codes map[string]time.Time
	wrong map[string]tries // by address
	wait  func(ctx context.Context, d time.Duration)
	log   *slog.Logger
	ended func(session []byte) // is told of sessions that end by a sign-out
}

// Rules are what a service allows, and who is told.
type Rules struct {
	NoHostReading bool                 // nobody may see lines of logs on hosts
	Ended         func(session []byte) // is told of each session that a sign-out ends, by its ID; may be nil
}

// tries are the wrong sign-ins from one address.
type tries struct {
	n    int
	last time.Time
}

// How a wrong sign-in is answered: each later than the one before, up to slowest, until none has come for forgets.
// Nobody is shut out: what is tried has 256 random bits, and an address may be that of a proxy that many share.
const (
	slowed   = 250 * time.Millisecond
	slowest  = 2 * time.Second
	forgets  = 5 * time.Minute
	mostFrom = 10_000 // addresses that are remembered
	logged   = 10     // of one address, and each hundredth after that
)

// failed notes a wrong sign-in, and answers after a while.
func (a *Auth) failed(ctx context.Context, from, what string) {
	now := a.now()
	a.mu.Lock()
	if len(a.wrong) >= mostFrom {
		for k, t := range a.wrong {
			if now.Sub(t.last) > forgets {
				delete(a.wrong, k)
			}
		}
		if len(a.wrong) >= mostFrom {
			clear(a.wrong)
		}
	}
	t := a.wrong[from]
	if now.Sub(t.last) > forgets {
		t = tries{}
	}
	t.n, t.last = t.n+1, now
	a.wrong[from] = t
	a.mu.Unlock()
	if t.n <= logged || t.n%100 == 0 {
		a.log.Warn("a wrong sign-in", "with", what, "from", from, "tries", t.n)
	}
	a.wait(ctx, min(slowest, time.Duration(t.n)*slowed))
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// TokenFile is the file of the admin's token, in the data folder.
const TokenFile = "admin.token"

// New reads the admin's token from the data folder, or makes it; created tells which.
func New(
	st *store.Store,
	dir string,
	rules Rules,
	log *slog.Logger,
	now func() time.Time,
) (a *Auth, created bool, err error) {
	path := filepath.Join(dir, TokenFile)
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		created = true
		text = []byte("syn_" + random())
		f, ferr := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if ferr != nil {
			return nil, false, fmt.Errorf("write the admin's token: %w", ferr)
		}
		_, err = f.Write(append(text, '\n'))
		err = errors.Join(err, f.Sync(), f.Close())
	}
	if err != nil {
		return nil, false, fmt.Errorf("admin's token: %w", err)
	}
	token := strings.TrimSpace(string(text))
	if len(token) < 20 {
		return nil, false, fmt.Errorf("the admin's token in %s is too short; remove the file to get a new one", path)
	}
	if rules.Ended == nil {
		rules.Ended = func([]byte) {}
	}
	return &Auth{
		store:      st,
		now:        now,
		token:      sha256.Sum256([]byte(token)),
		codes:      map[string]time.Time{},
		wrong:      map[string]tries{},
		wait:       pause,
		log:        log,
		ended:      rules.Ended,
		readsHosts: !rules.NoHostReading,
	}, created, nil
}

func random() string {
	var b [32]byte
	_, _ = rand.Read(b[:])
	return base64.RawURLEncoding.EncodeToString(b[:])
}

// Identity is who calls.
type Identity struct {
	Who     string
	Expires time.Time // zero for a token
	Secret  string    // the one secret that it may set, and nothing else; "" for the admin
	hash    []byte

	readsHosts bool // may see lines of logs on hosts, before anything is masked
}

// May tells whether the caller has a right over an object, which is the name of a secret or "".
func (id Identity) May(right contract.Right, object string) bool {
	switch {
	case id.Secret != "":
		return right == contract.MaySetSecret && object == id.Secret
	case right == contract.MayReadHosts:
		return id.readsHosts
	}
	return id.Who != ""
}

// ErrUnknown says that the caller could not be told.
var ErrUnknown = errors.New("not signed in")

// Identify reads a request: an API token as bearer, or the session cookie. With the cookie, a request that changes
// something must come from the console itself.
func (a *Auth) Identify(r *http.Request) (Identity, error) {
	id, err := a.identify(r)
	id.readsHosts = a.readsHosts && id.Secret == ""
	return id, err
}

func address(r *http.Request) string {
	host, _, _ := net.SplitHostPort(r.RemoteAddr)
	return host
}

func (a *Auth) identify(r *http.Request) (Identity, error) {
	if bearer, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
		if strings.HasPrefix(bearer, GrantPrefix) {
			return a.granted(r.Context(), bearer)
		}
		if !a.isToken(bearer) {
			a.failed(r.Context(), address(r), "API token")
			return Identity{}, fmt.Errorf(
				"%w: the API token is not known here; it is in the service's data folder, in %s",
				ErrUnknown,
				TokenFile,
			)
		}
		return Identity{Who: "admin"}, nil
	}
	cookie, err := r.Cookie(CookieName)
	if err != nil {
		return Identity{}, fmt.Errorf("%w: give an API token, or sign in", ErrUnknown)
	}
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		if u, err := url.Parse(r.Header.Get("Origin")); err != nil || u.Host != r.Host {
			return Identity{}, fmt.Errorf("%w: the request does not come from the console", ErrUnknown)
		}
	}
	sum := a.session(cookie.Value)
	s, err := a.store.Session(r.Context(), sum[:])
	if errors.Is(err, store.ErrNotFound) || err == nil && a.now().After(s.ExpiresAt) {
		return Identity{}, fmt.Errorf("%w: the session has ended; sign in again", ErrUnknown)
	}
	return Identity{Who: s.Who, Expires: s.ExpiresAt, hash: sum[:]}, err
}

// session is the ID of a session: the SHA-256 of its cookie and the admin's token, so that another token ends all
// sessions.
func (a *Auth) session(cookie string) [sha256.Size]byte {
	return sha256.Sum256(append([]byte(cookie+"\x00"), a.token[:]...))
}

// Session is the ID of the session that a browser is signed in with, nil for a token.
func (i Identity) Session() []byte { return i.hash }

// GrantPrefix begins the tokens with which somebody may set one secret.
const GrantPrefix = "set_"

func (a *Auth) granted(ctx context.Context, bearer string) (Identity, error) {
	sum := sha256.Sum256([]byte(bearer))
	all, err := a.store.Grants(ctx)
	if err != nil {
		return Identity{}, err
	}
	for _, g := range all {
		if subtle.ConstantTimeCompare(g.Hash, sum[:]) == 1 && g.EndedAt.IsZero() && a.now().Before(g.ExpiresAt) {
			return Identity{Who: g.Who, Expires: g.ExpiresAt, Secret: g.Secret}, nil
		}
	}
	return Identity{}, fmt.Errorf(
		"%w: this token for a secret is not known, or has ended; ask for another",
		ErrUnknown,
	)
}

func (a *Auth) isToken(text string) bool {
	sum := sha256.Sum256([]byte(text))
	return subtle.ConstantTimeCompare(sum[:], a.token[:]) == 1
}

// NewCode makes a one-time code for a sign-in link.
func (a *Auth) NewCode() (code string, expires time.Time) {
	a.mu.Lock()
	defer a.mu.Unlock()
	now := a.now()
	for c, ends := range a.codes {
		if now.After(ends) {
			delete(a.codes, c)
		}
	}
	code, expires = random(), now.Add(codeLasts)
	a.codes[code] = expires
	return code, expires
}

// SignIn takes a token or a code, from an address, and answers with the session's cookie. What is wrong is logged and
// answered late.
func (a *Auth) SignIn(ctx context.Context, token, code, from string, secure bool) (*http.Cookie, Identity, error) {
	switch {
	case token != "":
		if !a.isToken(token) {
			a.failed(ctx, from, "API token")
			return nil, Identity{}, fmt.Errorf(
				"%w: this is not the API token; it is in the service's data folder, in %s",
				ErrUnknown,
				TokenFile,
			)
		}
	case code != "":
		a.mu.Lock()
		ends, ok := a.codes[code]
		delete(a.codes, code)
		a.mu.Unlock()
		if !ok || a.now().After(ends) {
			a.failed(ctx, from, "link")
			return nil, Identity{}, fmt.Errorf(
				"%w: the link was used already or has expired; make another with: synaxis login --link",
				ErrUnknown,
			)
		}
	default:
		return nil, Identity{}, fmt.Errorf("%w: give a token or a code", ErrUnknown)
	}
	value := random()
	sum := a.session(value)
	now := a.now()
	s := store.Session{Hash: sum[:], Who: "admin", ExpiresAt: now.Add(sessionLasts)}
	if err := a.store.Update(ctx, func(t *store.Tx) error { return t.PutSession(s, now) }); err != nil {
		return nil, Identity{}, err
	}
	cookie := &http.Cookie{
		Name:     CookieName,
		Value:    value,
		Path:     "/",
		HttpOnly: true,
		Secure:   secure,
		SameSite: http.SameSiteStrictMode,
		Expires:  s.ExpiresAt,
	}
	return cookie, Identity{Who: s.Who, Expires: s.ExpiresAt}, nil
}

// SignOut ends a browser's session and answers with the cookie that removes it.
func (a *Auth) SignOut(ctx context.Context, id Identity) (*http.Cookie, error) {
	if id.hash != nil {
		if err := a.store.Update(ctx, func(t *store.Tx) error { return t.EndSession(id.hash) }); err != nil {
			return nil, err
		}
		a.ended(id.hash)
	}
	return &http.Cookie{
		Name:     CookieName,
		Path:     "/",
		HttpOnly: true,
		SameSite: http.SameSiteStrictMode,
		MaxAge:   -1,
	}, nil
}
