// Package secrets keeps secrets sealed: their values are encrypted with a key that is not in the database, and are
// never shown again once they were set. Definitions refer to them by name; what hosts should run names the version
// too.
package secrets

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/chacha20poly1305"

	"synaxis/internal/service/auth"
	"synaxis/internal/service/store"
)

// KeyFile is the file of the sealing key in the data folder, and KeyVariable the variable that takes its place: 32
// bytes in base64.
const (
	KeyFile     = "secrets.key"
	KeyVariable = "SYNAXIS_SECRETS_KEY"
)

// MaxValue bounds one secret, in bytes.
const MaxValue = 64 << 10

// Secrets is all of them. It is safe for use by many goroutines.
type Secrets struct {
	store *store.Store
	now   func() time.Time
	key   []byte
	note  func(topic string)

	mu       sync.RWMutex
	versions map[string]int // never changed, replaced
}

// Open reads the key from the environment or the data folder, or makes one there, and follows its changes.
func Open(
	ctx context.Context,
	st *store.Store,
	dir string,
	now func() time.Time,
	note func(topic string),
) (*Secrets, error) {
	sealed, err := st.Secrets(ctx)
	if err != nil {
		return nil, err
	}
	key, err := readKey(dir, len(sealed) > 0)
	if err != nil {
		return nil, err
	}
	s := &Secrets{store: st, now: now, key: key, note: note, versions: map[string]int{}}
	for i, x := range sealed {
		s.versions[x.Name] = x.Version
		if i == 0 {
			if _, err := s.Value(ctx, x.Name, x.Version); err != nil {
				return nil, fmt.Errorf(
					"the secrets cannot be opened: the sealing key is another than they were sealed with: %w",
					err,
				)
			}
		}
	}
	st.Follow(s.follow)
	return s, nil
}

func (s *Secrets) follow(changes []store.Change) {
	for _, c := range changes {
		c, ok := c.(store.SecretChanged)
		if !ok {
			continue
		}
		s.mu.Lock()
		s.versions = maps.Clone(s.versions)
		if c.Version > 0 {
			s.versions[c.Name] = c.Version
		} else {
			delete(s.versions, c.Name)
		}
		s.mu.Unlock()
		s.note("secrets")
	}
}

// readKey reads the key, or makes one where none is needed yet.
func readKey(dir string, needed bool) ([]byte, error) {
	text, from := os.Getenv(KeyVariable), KeyVariable
	if text == "" {
		path := filepath.Join(dir, KeyFile)
		from = path
		info, err := os.Stat(path)
		switch {
		case errors.Is(err, fs.ErrNotExist) && needed:
			return nil, fmt.Errorf(
				"%s is gone, and secrets are there that were sealed with it: restore it from a backup of the data "+
					"folder, or give the key in the variable %s",
				path,
				KeyVariable,
			)
		case errors.Is(err, fs.ErrNotExist):
			var b [chacha20poly1305.KeySize]byte
			_, _ = rand.Read(b[:])
			f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
			if err != nil {
				return nil, fmt.Errorf("write the sealing key: %w", err)
			}
			_, err = f.WriteString(base64.StdEncoding.EncodeToString(b[:]) + "\n")
			return b[:], errors.Join(err, f.Sync(), f.Close())
		case err != nil:
			return nil, fmt.Errorf("sealing key: %w", err)
		case info.Mode().Perm()&0o077 != 0:
			return nil, fmt.Errorf(
				"the sealing key %s may be read by others than its owner (mode %o); chmod 600 it, and rotate the "+
					"secrets if somebody may have",
				path,
				info.Mode().Perm(),
			)
		}
		b, err := os.ReadFile(path)
		if err != nil {
			return nil, fmt.Errorf("sealing key: %w", err)
		}
		text = string(b)
	}
	key, err := base64.StdEncoding.DecodeString(strings.TrimSpace(text))
	if err != nil || len(key) != chacha20poly1305.KeySize {
		return nil, fmt.Errorf("the sealing key in %s is not %d bytes in base64", from, chacha20poly1305.KeySize)
	}
	return key, nil
}

// Versions tells which secrets exist, with their versions. The map must not be changed.
func (s *Secrets) Versions() map[string]int {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.versions
}

// bound ties a sealed value to its name and version, so that rows cannot be exchanged.
func bound(name string, version int) []byte { return fmt.Appendf(nil, "%s@%d", name, version) }

// Describe changes what is said of a secret; its value and version stay.
func (s *Secrets) Describe(
	ctx context.Context,
	who store.Person,
	name string,
	about, owner *string,
	expires *time.Time,
) (store.Secret, error) {
	var out store.Secret
	err := s.store.Update(ctx, func(t *store.Tx) error {
		have, err := t.Secret(name)
		if errors.Is(err, store.ErrNotFound) {
			return store.Missingf("there is no secret %s; give it a value", name)
		}
		if err != nil {
			return err
		}
		out = have
		if about != nil {
			out.About = *about
		}
		if owner != nil {
			out.Owner = *owner
		}
		if expires != nil {
			out.ExpiresAt = *expires
		}
		if err := t.DescribeSecret(out); err != nil {
			return err
		}
		said := func(x store.Secret) map[string]string {
			return map[string]string{"about": x.About, "owner": x.Owner, "expires": day(x.ExpiresAt)}
		}
		return t.Audit(who, s.now(), "secret describe", name, said(have), said(out))
	})
	return out, err
}

// day is a date, or "" for none.
func day(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(time.DateOnly)
}

// Expiry is when the certificates of a value end, the first of them, where it holds some as PEM (RFC 7468).
func Expiry(value string) (first time.Time) {
	for rest := []byte(value); ; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			return first
		}
		if c, err := x509.ParseCertificate(block.Bytes); err == nil && block.Type == "CERTIFICATE" &&
			(first.IsZero() || c.NotAfter.Before(first)) {
			first = c.NotAfter
		}
	}
}

// Set keeps a new value; the secret is made when it is not there. When it expires is read from a certificate, else it
// is what is said, or not known. It returns the new version.
func (s *Secrets) Set(
	ctx context.Context,
	who store.Person,
	name, value string,
	about, owner *string,
	expires *time.Time,
) (store.Secret, error) {
	if value == "" || len(value) > MaxValue {
		return store.Secret{}, fmt.Errorf("a secret has 1 to %d bytes", MaxValue)
	}
	aead, err := chacha20poly1305.NewX(s.key)
	if err != nil {
		return store.Secret{}, err
	}
	now := s.now()
	var out store.Secret
	err = s.store.Update(ctx, func(t *store.Tx) error {
		have, err := t.Secret(name)
		fresh := errors.Is(err, store.ErrNotFound)
		if err != nil && !fresh {
			return err
		}
		before := have.Version
		if fresh {
			have = store.Secret{Name: name, Owner: who.Name, CreatedAt: now}
		}
		if about != nil {
			have.About = *about
		}
		if owner != nil {
			have.Owner = *owner
		}
		if have.ExpiresAt = Expiry(value); have.ExpiresAt.IsZero() && expires != nil {
			have.ExpiresAt = *expires
		}
		have.Version, have.SetAt, have.SetBy = have.Version+1, now, who.Name
		nonce := make([]byte, aead.NonceSize(), aead.NonceSize()+len(value)+aead.Overhead())
		_, _ = rand.Read(nonce)
		if err := t.PutSecret(have, aead.Seal(nonce, nonce, []byte(value), bound(name, have.Version))); err != nil {
			return err
		}
		out = have
		return t.Audit(who, now, "secret set", name, versionOf(before), versionOf(have.Version))
	})
	return out, err
}

func versionOf(n int) any {
	if n == 0 {
		return nil
	}
	return map[string]int{"version": n}
}

// Remove takes a secret away, with all its versions.
func (s *Secrets) Remove(ctx context.Context, who store.Person, name string) error {
	return s.store.Update(ctx, func(t *store.Tx) error {
		have, err := t.Secret(name)
		if errors.Is(err, store.ErrNotFound) {
			return store.Missingf("there is no secret %s", name)
		}
		if err != nil {
			return err
		}
		if err := t.RemoveSecret(name); err != nil {
			return err
		}
		return t.Audit(who, s.now(), "secret remove", name, versionOf(have.Version), nil)
	})
}

// Value opens one version, for a host that needs it, or for the service's own messages that a notice signs with it.
// It is for nobody else.
func (s *Secrets) Value(ctx context.Context, name string, version int) (string, error) {
	sealed, err := s.store.SealedSecret(ctx, name, version)
	if err != nil {
		return "", err
	}
	aead, err := chacha20poly1305.NewX(s.key)
	if err != nil {
		return "", err
	}
	if len(sealed) < aead.NonceSize() {
		return "", errors.New("the sealed value is damaged")
	}
	value, err := aead.Open(nil, sealed[:aead.NonceSize()], sealed[aead.NonceSize():], bound(name, version))
	return string(value), err
}

// Grant makes a token with which somebody may set one secret, and do nothing else. Its text is given once.
func (s *Secrets) Grant(
	ctx context.Context,
	who store.Person,
	name, to string,
	lasts time.Duration,
) (store.Grant, string, error) {
	var b [38]byte
	_, _ = rand.Read(b[:])
	text := auth.GrantPrefix + base64.RawURLEncoding.EncodeToString(b[6:])
	sum := sha256.Sum256([]byte(text))
	now := s.now()
	g := store.Grant{
		ID:        fmt.Sprintf("g%x", b[:6]),
		Hash:      sum[:],
		Who:       to,
		Secret:    name,
		CreatedAt: now,
		CreatedBy: who.Name,
		ExpiresAt: now.Add(lasts),
	}
	err := s.store.Update(ctx, func(t *store.Tx) error {
		if _, err := t.Secret(name); errors.Is(err, store.ErrNotFound) {
			return store.Missingf("there is no secret %s", name)
		} else if err != nil {
			return err
		}
		if err := t.PutGrant(g); err != nil {
			return err
		}
		return t.Audit(
			who,
			now,
			"secret grant",
			name,
			nil,
			map[string]any{"id": g.ID, "to": to, "expires": g.ExpiresAt},
		)
	})
	return g, text, err
}

// Revoke ends a grant.
func (s *Secrets) Revoke(ctx context.Context, who store.Person, name, id string) error {
	now := s.now()
	return s.store.Update(ctx, func(t *store.Tx) error {
		if err := t.EndGrant(name, id, now); err != nil {
			return err
		}
		return t.Audit(who, now, "secret revoke", name, id, nil)
	})
}

// List returns all secrets, and the grants that still count, by secret.
func (s *Secrets) List(ctx context.Context) ([]store.Secret, map[string][]store.Grant, error) {
	list, err := s.store.Secrets(ctx)
	if err != nil {
		return nil, nil, err
	}
	grants, err := s.store.Grants(ctx)
	bySecret := map[string][]store.Grant{}
	for _, g := range grants {
		if g.EndedAt.IsZero() && s.now().Before(g.ExpiresAt) {
			bySecret[g.Secret] = append(bySecret[g.Secret], g)
		}
	}
	return list, maps.Clone(bySecret), err
}
