package secrets

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"math/big"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/service/store"
)

var ada = store.Person{Name: "ada", Origin: "here"}

func open(t *testing.T, dir string) (*Secrets, *store.Store, error) {
	st, err := store.Open(context.Background(), dir)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, st.Close()) })
	s, err := Open(context.Background(), st, dir, time.Now, func(string) {})
	return s, st, err
}

func TestSealed(t *testing.T) {
	t.Parallel()
	dir, ctx := t.TempDir(), context.Background()
	s, st, err := open(t, dir)
	require.NoError(t, err)
	const value = "correct horse battery staple"
	for i := 1; i <= 3; i++ {
		x, err := s.Set(ctx, ada, "token", value+strings.Repeat("!", i), nil, nil, nil)
		require.NoError(t, err)
		assert.Equal(t, i, x.Version)
	}
	assert.Equal(t, map[string]int{"token": 3}, s.Versions())
	for version, want := range map[int]string{3: value + "!!!", 2: value + "!!"} {
		got, err := s.Value(ctx, "token", version)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	_, err = s.Value(ctx, "token", 1)
	assert.Error(t, err, "only the version before is kept, for hosts that still run it")

	// Nothing of the value is in any file.
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, e := range entries {
		text, err := os.ReadFile(filepath.Join(dir, e.Name()))
		require.NoError(t, err)
		assert.NotContains(t, string(text), value, e.Name())
	}
	info, err := os.Stat(filepath.Join(dir, KeyFile))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	// A sealed value is tied to its name and version: rows that were exchanged do not open.
	_, err = s.Set(ctx, ada, "other", "x", nil, nil, nil)
	require.NoError(t, err)
	sealed, err := st.SealedSecret(ctx, "token", 3)
	require.NoError(t, err)
	require.NoError(
		t,
		st.Update(
			ctx,
			func(t *store.Tx) error { return t.PutSecret(store.Secret{Name: "other", Version: 2}, sealed) },
		),
	)
	_, err = s.Value(ctx, "other", 2)
	assert.Error(t, err)
}

func TestKey(t *testing.T) {
	t.Parallel()
	dir, ctx := t.TempDir(), context.Background()
	s, _, err := open(t, dir)
	require.NoError(t, err)
	_, err = s.Set(ctx, ada, "token", "x", nil, nil, nil)
	require.NoError(t, err)
	path := filepath.Join(dir, KeyFile)
	require.NoError(t, os.Chmod(path, 0o640))
	_, _, err = open(t, dir)
	assert.ErrorContains(t, err, "chmod 600")
	require.NoError(t, os.Chmod(path, 0o600))
	require.NoError(t, os.WriteFile(path, []byte(base64.StdEncoding.EncodeToString(make([]byte, 32))), 0o600))
	_, _, err = open(t, dir)
	assert.ErrorContains(t, err, "another than they were sealed with")
	require.NoError(t, os.WriteFile(path, []byte("short"), 0o600))
	_, _, err = open(t, dir)
	assert.ErrorContains(t, err, "32 bytes in base64")
}

// TestKeyFromTheEnvironment: then no key is in the data folder.
func TestKeyFromTheEnvironment(t *testing.T) {
	dir, ctx := t.TempDir(), context.Background()
	t.Setenv(KeyVariable, base64.StdEncoding.EncodeToString([]byte("0123456789abcdef0123456789abcdef")))
	s, _, err := open(t, dir)
	require.NoError(t, err)
	_, err = s.Set(ctx, ada, "token", "x", nil, nil, nil)
	require.NoError(t, err)
	assert.NoFileExists(t, filepath.Join(dir, KeyFile))
	t.Setenv(KeyVariable, "nonsense")
	_, _, err = open(t, dir)
	assert.ErrorContains(t, err, KeyVariable)
}

func TestRefused(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	s, _, err := open(t, t.TempDir())
	require.NoError(t, err)
	for _, value := range []string{"", strings.Repeat("x", MaxValue+1)} {
		_, err := s.Set(ctx, ada, "token", value, nil, nil, nil)
		assert.Error(t, err)
	}
	_, _, err = s.Grant(ctx, ada, "token", "ben", time.Hour)
	assert.ErrorIs(t, err, store.ErrNotFound)
	assert.ErrorIs(t, s.Remove(ctx, ada, "token"), store.ErrNotFound)
}

// TestExpiry: the first end of any certificate in a value, whatever stands around it; none where there is none.
func TestExpiry(t *testing.T) {
	t.Parallel()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	made := func(days int) string {
		c := &x509.Certificate{SerialNumber: big.NewInt(7), NotAfter: time.Date(2031, 4, days, 0, 0, 0, 0, time.UTC)}
		der, err := x509.CreateCertificate(rand.Reader, c, c, &key.PublicKey, key)
		require.NoError(t, err)
		return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
	}
	other := string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: []byte("x")}))
	for text, day := range map[string]int{made(5): 5, made(9) + made(3): 3, "# archive\n" + made(2) + other: 2,
		other + made(7): 7,
		"opensesame":    0, "": 0, other: 0, "-----BEGIN CERTIFICATE-----\n!!": 0} {
		at := Expiry(text)
		assert.Equal(t, day == 0, at.IsZero(), text)
		if day > 0 {
			assert.Equal(t, day, at.Day())
		}
	}
}
