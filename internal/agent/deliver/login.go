package deliver

import (
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"regexp"
	"sync"
	"time"

	"synaxis/internal/core/delivery"
)

// secretRef is a reference to a secret, with its version, in a host config.
var secretRef = regexp.MustCompile(`\$\{secret\.[^}]+\}`)

// reveal puts the values of secrets in the place of references.
func reveal(text string, secret func(ref string) (string, bool)) (string, error) {
	var err error
	out := secretRef.ReplaceAllStringFunc(text, func(ref string) string {
		if secret != nil {
			if v, ok := secret(ref); ok {
				return v
			}
		}
		err = fmt.Errorf("%s did not come with the config", ref)
		return ""
	})
	return out, err
}

// renewAfter is how long after a newest version of secrets was asked for in vain it is asked for again.
const renewAfter = 5 * time.Minute

// login proves who the host is. When a receiver refuses that, the newest version of the secrets is asked for, once.
type login struct {
	spec           delivery.Auth
	secret, newest func(ref string) (string, bool)

	mu    sync.Mutex
	newer map[string]string // by reference
	asked time.Time
}

// value is the value of a reference.
func (l *login) value(ref string) (string, bool) {
	l.mu.Lock()
	v, ok := l.newer[ref]
	l.mu.Unlock()
	if ok {
		return v, true
	}
	if l.secret == nil {
		return "", false
	}
	return l.secret(ref)
}

// sign puts the proof onto a request.
func (l *login) sign(h http.Header) error {
	if !l.spec.Any() {
		return nil
	}
	set := func(name, before, text string) error {
		v, err := reveal(text, l.value)
		if err == nil {
			h.Set(name, before+v)
		}
		return err
	}
	if l.spec.Bearer != "" {
		if err := set("Authorization", "Bearer ", l.spec.Bearer); err != nil {
			return err
		}
	}
	if l.spec.User != "" {
		user, err := reveal(l.spec.User, l.value)
		if err != nil {
			return err
		}
		password, err := reveal(l.spec.Password, l.value)
		if err != nil {
			return err
		}
		h.Set("Authorization", "Basic "+base64.StdEncoding.EncodeToString([]byte(user+":"+password)))
	}
	for name, text := range l.spec.Headers {
		if err := set(name, "", text); err != nil {
			return err
		}
	}
	return nil
}

// refs are the references of the proof.
func (l *login) refs() (out []string) {
	texts := []string{l.spec.Bearer, l.spec.User, l.spec.Password}
	for _, text := range l.spec.Headers {
		texts = append(texts, text)
	}
	for _, text := range texts {
		out = append(out, secretRef.FindAllString(text, -1)...)
	}
	return out
}

// renew asks for the newest version of the secrets, unless that was done a while ago. It tells whether one is another
// than was used.
func (l *login) renew() (changed bool) {
	l.mu.Lock()
	wait := l.newest == nil || time.Since(l.asked) < renewAfter
	if !wait {
		l.asked = time.Now()
	}
	l.mu.Unlock()
	if wait {
		return false
	}
	for _, ref := range l.refs() {
		v, ok := l.newest(ref)
		if have, had := l.value(ref); ok && (!had || have != v) {
			l.mu.Lock()
			if l.newer == nil {
				l.newer = map[string]string{}
			}
			l.newer[ref] = v
			l.mu.Unlock()
			changed = true
		}
	}
	return changed
}

// worked notes that the proof was taken.
func (l *login) worked() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.asked = time.Time{}
}

// tlsOf is how connections are made safe.
func tlsOf(spec delivery.TLS, secret func(string) (string, bool)) (*tls.Config, error) {
	c := &tls.Config{MinVersion: tls.VersionTLS12, ServerName: spec.ServerName, InsecureSkipVerify: spec.NoVerify}
	if spec.Minimum == "1.3" {
		c.MinVersion = tls.VersionTLS13
	}
	ca, err := reveal(spec.CA, secret)
	if err != nil {
		return nil, fmt.Errorf("tls.ca: %w", err)
	}
	if ca != "" {
		c.RootCAs = x509.NewCertPool()
		if !c.RootCAs.AppendCertsFromPEM([]byte(ca)) {
			return nil, errors.New("tls.ca holds no certificate in PEM")
		}
	}
	certificate, err := reveal(spec.Certificate, secret)
	if err != nil {
		return nil, fmt.Errorf("tls.certificate: %w", err)
	}
	key, err := reveal(spec.Key, secret)
	if err != nil {
		return nil, fmt.Errorf("tls.key: %w", err)
	}
	if certificate != "" || key != "" {
		pair, err := tls.X509KeyPair([]byte(certificate), []byte(key))
		if err != nil {
			return nil, fmt.Errorf("tls.certificate and tls.key: %w", err)
		}
		c.Certificates = []tls.Certificate{pair}
	}
	return c, nil
}
