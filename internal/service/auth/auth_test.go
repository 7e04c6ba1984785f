package auth

import (
	"context"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/service/store"
)

type desk struct {
	*Auth
	now   time.Time
	token string
}

func newDesk(t *testing.T) *desk {
	dir := t.TempDir()
	st, err := store.Open(context.Background(), dir)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, st.Close()) })
	d := &desk{now: time.Date(2031, 4, 2, 6, 0, 0, 0, time.UTC)}
	var created bool
	d.Auth, created, err = New(st, dir, func() time.Time { return d.now })
	require.NoError(t, err)
	assert.True(t, created)
	path := filepath.Join(dir, TokenFile)
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	d.token = strings.TrimSpace(string(text))
	_, created, err = New(st, dir, time.Now)
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
	for _, bad := range []string{"Bearer ", "Bearer " + d.token + "x", "Bearer " + d.token[1:], "Basic " + d.token, ""} {
		_, err := d.Identify(request("GET", "Authorization", bad))
		assert.ErrorIs(t, err, ErrUnknown, bad)
	}
}

// TestSession: a link is good once and not for long, a session ends by time and by signing out, and a request that changes
// something must come from the console.
func TestSession(t *testing.T) {
	t.Parallel()
	d, ctx := newDesk(t), context.Background()
	code, expires := d.NewCode()
	assert.Equal(t, d.now.Add(codeLasts), expires)
	cookie, _, err := d.SignIn(ctx, "", code, true)
	require.NoError(t, err)
	assert.True(t, cookie.HttpOnly)
	assert.True(t, cookie.Secure)
	assert.Equal(t, http.SameSiteStrictMode, cookie.SameSite)
	for _, again := range [][2]string{{"", code}, {"", "guess"}, {"wrong", ""}, {"", ""}} {
		_, _, err := d.SignIn(ctx, again[0], again[1], false)
		assert.ErrorIs(t, err, ErrUnknown, "%v", again)
	}
	late, _ := d.NewCode()
	d.now = d.now.Add(codeLasts + time.Second)
	_, _, err = d.SignIn(ctx, "", late, false)
	require.ErrorIs(t, err, ErrUnknown)

	has := cookie.Name + "=" + cookie.Value
	id, err := d.Identify(request("GET", "Cookie", has))
	require.NoError(t, err)
	assert.Equal(t, "admin", id.Who)
	for origin, ok := range map[string]bool{"http://desk.example": true, "https://desk.example": true, "http://elsewhere.example": false, "": false, "null": false} {
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

	cookie, _, err = d.SignIn(ctx, d.token, "", false)
	require.NoError(t, err)
	assert.False(t, cookie.Secure, "over plain HTTP on loopback a browser would not send it")
	d.now = d.now.Add(sessionLasts + time.Second)
	_, err = d.Identify(request("GET", "Cookie", cookie.Name+"="+cookie.Value))
	assert.ErrorIs(t, err, ErrUnknown)
}
