package auth

import (
	"bytes"
	"context"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/service/store"
)

type desk struct {
	*Auth
	st     *store.Store
	dir    string
	log    *bytes.Buffer
	waited []time.Duration
	now    time.Time
	token  string
}

func newDesk(t *testing.T) *desk {
	dir := t.TempDir()
	st, err := store.Open(context.Background(), dir)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, st.Close()) })
	d := &desk{st: st, dir: dir, log: &bytes.Buffer{}, now: time.Date(2031, 4, 2, 6, 0, 0, 0, time.UTC)}
	var created bool
	d.Auth, created, err = New(
		st,
		dir,
		Rules{},
		slog.New(slog.NewTextHandler(d.log, nil)),
		func() time.Time { return d.now },
	)
	require.NoError(t, err)
	d.wait = func(_ context.Context, w time.Duration) { d.waited = append(d.waited, w) }
	assert.True(t, created)
	path := filepath.Join(dir, TokenFile)
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	d.token = strings.TrimSpace(string(text))
	_, created, err = New(st, dir, Rules{}, slog.New(slog.DiscardHandler), time.Now)
	require.NoError(t, err)
	assert.False(t, created, "the token stays")
	return d
}

func request(method string, header ...string) *http.Request {
	r := httptest.NewRequest(method, "http://desk.example/api/v1/status", nil)
	for i := 0; i < len(header); i += 2 {
		r.Header.Set(header[i], header[i+1])
	}
	return r
}

func TestToken(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	id, err := d.Identify(request("POST", "Authorization", "Bearer "+d.token))
	require.NoError(t, err)
	assert.Equal(t, "admin", id.Who)
	for _, bad := range []string{"Bearer ", "Bearer " + d.token + "x", "Bearer " + d.token[1:], "Basic " + d.token,
		""} {
		_, err := d.Identify(request("GET", "Authorization", bad))
		assert.ErrorIs(t, err, ErrUnknown, bad)
	}
}

// TestSession: a link is good once and not for long, a session ends by time and by signing out, and a request that
// changes something must come from the console.
func TestSession(t *testing.T) {
	t.Parallel()
	d, ctx := newDesk(t), context.Background()
	code, expires := d.NewCode()
	assert.Equal(t, d.now.Add(codeLasts), expires)
	cookie, _, err := d.SignIn(ctx, "", code, "192.0.2.7", true)
	require.NoError(t, err)
	assert.True(t, cookie.HttpOnly)
	assert.True(t, cookie.Secure)
	assert.Equal(t, http.SameSiteStrictMode, cookie.SameSite)
	for _, again := range [][2]string{{"", code}, {"", "guess"}, {"wrong", ""}, {"", ""}} {
		_, _, err := d.SignIn(ctx, again[0], again[1], "192.0.2.7", false)
		assert.ErrorIs(t, err, ErrUnknown, "%v", again)
	}
	late, _ := d.NewCode()
	d.now = d.now.Add(codeLasts + time.Second)
	_, _, err = d.SignIn(ctx, "", late, "192.0.2.7", false)
	require.ErrorIs(t, err, ErrUnknown)

	has := cookie.Name + "=" + cookie.Value
	id, err := d.Identify(request("GET", "Cookie", has))
	require.NoError(t, err)
	assert.Equal(t, "admin", id.Who)
	for origin, ok := range map[string]bool{"http://desk.example": true, "https://desk.example": true,
		"http://elsewhere.example": false, "": false, "null": false} {
		_, err := d.Identify(request("DELETE", "Cookie", has, "Origin", origin))
		assert.Equal(t, ok, err == nil, origin)
	}
	_, err = d.Identify(request("GET", "Cookie", cookie.Name+"=guess"))
	require.ErrorIs(t, err, ErrUnknown)
	gone, err := d.SignOut(ctx, id)
	require.NoError(t, err)
	assert.Negative(t, gone.MaxAge)
	_, err = d.Identify(request("GET", "Cookie", has))
	require.ErrorIs(t, err, ErrUnknown)

	cookie, _, err = d.SignIn(ctx, d.token, "", "192.0.2.7", false)
	require.NoError(t, err)
	assert.False(t, cookie.Secure, "over plain HTTP on loopback a browser would not send it")
	d.now = d.now.Add(sessionLasts + time.Second)
	_, err = d.Identify(request("GET", "Cookie", cookie.Name+"="+cookie.Value))
	assert.ErrorIs(t, err, ErrUnknown)
}

// TestAnotherTokenEndsSessions: with a new admin.token, who was signed in by the old one is not.
func TestAnotherTokenEndsSessions(t *testing.T) {
	t.Parallel()
	d, ctx := newDesk(t), context.Background()
	cookie, _, err := d.SignIn(ctx, d.token, "", "192.0.2.7", false)
	require.NoError(t, err)
	has := request("GET", "Cookie", cookie.Name+"="+cookie.Value)
	again := func() *Auth {
		a, _, err := New(d.st, d.dir, Rules{}, slog.New(slog.DiscardHandler), func() time.Time { return d.now })
		require.NoError(t, err)
		return a
	}
	_, err = again().Identify(has)
	require.NoError(t, err, "a restart ends no session")
	require.NoError(t, os.Remove(filepath.Join(d.dir, TokenFile)))
	_, err = again().Identify(has)
	assert.ErrorIs(t, err, ErrUnknown)
}

// TestWrongSignIns: each is answered later than the one before, and logged, without what was tried; it is forgotten
// after a while, and shuts nobody out.
func TestWrongSignIns(t *testing.T) {
	t.Parallel()
	d, ctx := newDesk(t), context.Background()
	for i := range 500 {
		if i%2 == 0 {
			_, _, err := d.SignIn(ctx, "a-guess-of-somebody", "", "192.0.2.7", false)
			require.ErrorIs(t, err, ErrUnknown)
		} else {
			r := request("GET", "Authorization", "Bearer a-guess-of-somebody")
			r.RemoteAddr = "192.0.2.7:4711"
			_, err := d.Identify(r)
			require.ErrorIs(t, err, ErrUnknown)
		}
		d.now = d.now.Add(time.Second)
	}
	assert.Equal(
		t,
		[]time.Duration{250 * time.Millisecond, 500 * time.Millisecond, 750 * time.Millisecond},
		d.waited[:3],
	)
	assert.Equal(t, slowest, d.waited[499])
	lines := strings.Count(d.log.String(), "a wrong sign-in")
	assert.Equal(t, 15, lines, "the log does not fill")
	assert.Contains(t, d.log.String(), "from=192.0.2.7 tries=500")
	assert.NotContains(t, d.log.String(), "guess")
	_, _, err := d.SignIn(ctx, d.token, "", "192.0.2.7", false)
	assert.NoError(t, err)
	_, _, err = d.SignIn(ctx, "wrong", "", "192.0.2.8", false)
	require.ErrorIs(t, err, ErrUnknown)
	assert.Equal(t, slowed, d.waited[500], "another address")
	d.now = d.now.Add(forgets + time.Second)
	_, _, err = d.SignIn(ctx, "wrong", "", "192.0.2.7", false)
	require.ErrorIs(t, err, ErrUnknown)
	assert.Equal(t, slowed, d.waited[501])
	for i := range 3 * mostFrom {
		d.failed(ctx, strconv.Itoa(i), "API token")
	}
	assert.LessOrEqual(t, len(d.wrong), mostFrom)
}
