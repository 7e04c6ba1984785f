package notices

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net"
	"net/http"
	"net/smtp"
	"os"
	"strconv"
	"strings"
	"sync"
	"time"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/notice"
	"synaxis/internal/service/store"
)

// Times of sending.
const (
	sendEvery  = time.Second
	sendWithin = 10 * time.Second // one try
	firstPause = 5 * time.Second  // after the first that failed; twice as long after each other
	mostPause  = 15 * time.Minute
	giveUp     = 7 * 24 * time.Hour
	atOnce     = 8
)

// What receivers of webhooks find beside the JSON. The signature is HMAC-SHA256 (RFC 2104) in hexadecimal over the
// time, a dot and the body.
const (
	TimeHeader      = "Synaxis-Time"
	SignatureHeader = "Synaxis-Signature"
)

// send sends messages that are due until ctx ends.
func (n *Notices) send(ctx context.Context) {
	t := time.NewTicker(sendEvery)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
		if err := n.SendDue(ctx); err != nil && ctx.Err() == nil {
			n.log.Error("messages of notices cannot be sent", "error", err)
		}
	}
}

// SendDue tries the messages that are due once.
func (n *Notices) SendDue(ctx context.Context) error {
	due, err := n.store.DueMessages(ctx, n.now(), atOnce)
	if err != nil || len(due) == 0 {
		return err
	}
	var all sync.WaitGroup
	errs := make([]error, len(due))
	for i, m := range due {
		all.Go(func() { errs[i] = n.try(ctx, m) })
	}
	all.Wait()
	n.note("notices")
	return errors.Join(errs...)
}

// try sends one message, and writes how that went.
func (n *Notices) try(ctx context.Context, m store.Message) error {
	n.mu.Lock()
	rule := n.rules[m.Notice]
	n.mu.Unlock()
	now := n.now()
	var err error
	switch {
	case rule == nil || m.Way >= len(rule.To) || rule.To[m.Way].String() != m.ToWhom:
		m.Done, m.Error = now, "the notice tells it no more"
		return n.store.MessageTried(ctx, m)
	default:
		within, stop := context.WithTimeout(ctx, sendWithin)
		err = n.tell(within, rule.To[m.Way], m)
		stop()
	}
	if ctx.Err() != nil {
		return nil
	}
	m.Tries++
	switch {
	case err == nil:
		m.Done, m.Error = n.now(), ""
	case now.Sub(m.Made) > giveUp:
		m.Done, m.Error = now, "given up after a week: "+err.Error()
	default:
		m.Next, m.Error = now.Add(min(firstPause<<min(m.Tries-1, 20), mostPause)), err.Error()
	}
	return n.store.MessageTried(ctx, m)
}

func (n *Notices) tell(ctx context.Context, way notice.Way, m store.Message) error {
	var msg notice.Message
	if err := json.Unmarshal([]byte(m.Message), &msg); err != nil {
		return err
	}
	switch {
	case way.Webhook != nil:
		secret, err := n.value(ctx, way.Webhook.Secret)
		if err != nil {
			return err
		}
		return post(ctx, way.Webhook.URL, secret, []byte(m.Message), m.ID, n.now())
	case way.Mail != nil:
		password, err := n.value(ctx, way.Mail.Password)
		if err != nil {
			return err
		}
		return mail(ctx, *way.Mail, password, &msg, m.ID)
	}
	return logLine(ctx, *way.Syslog, &msg, m.ID)
}

// value opens what a definition says of something secret: a reference to a secret, or "".
func (n *Notices) value(ctx context.Context, text string) (string, error) {
	if text == "" {
		return "", nil
	}
	refs, err := catalogue.Refs(text)
	if err != nil || len(refs) != 1 || refs[0].Space != "secret" || refs[0].String() != text {
		return "", errors.New("what is secret must be a reference to a secret, and nothing else")
	}
	version := n.secrets.Versions()[refs[0].Name]
	if version == 0 {
		return "", fmt.Errorf("secret %s has no value yet", refs[0].Name)
	}
	return n.secrets.Value(ctx, refs[0].Name, version)
}

// client follows no redirects: what is told is for the address that was named.
var client = &http.Client{
	CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	Transport:     &http.Transport{MaxIdleConnsPerHost: 1, IdleConnTimeout: time.Minute, ForceAttemptHTTP2: true},
}

// Sign is the signature of a body at a time, in Unix seconds.
func Sign(secret string, at int64, body []byte) string {
	mac := hmac.New(sha256.New, []byte(secret))
	fmt.Fprintf(mac, "%d.", at)
	mac.Write(body)
	return "sha256=" + hex.EncodeToString(mac.Sum(nil))
}

func post(ctx context.Context, url, secret string, body []byte, id int64, now time.Time) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, url, bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Idempotency-Key", strconv.FormatInt(id, 10))
	req.Header.Set(TimeHeader, strconv.FormatInt(now.Unix(), 10))
	if secret != "" {
		req.Header.Set(SignatureHeader, Sign(secret, now.Unix(), body))
	}
	resp, err := client.Do(req)
	if err != nil {
		return plainly(err)
	}
	defer resp.Body.Close()
	answer, _ := io.ReadAll(io.LimitReader(resp.Body, 200))
	if resp.StatusCode/100 != 2 {
		return fmt.Errorf("it answered %s: %s", resp.Status, strings.ToValidUTF8(string(answer), "?"))
	}
	return nil
}

// plainly is an error without the address, which the message names.
func plainly(err error) error {
	var u interface{ Unwrap() error }
	if errors.As(err, &u) && u.Unwrap() != nil {
		return u.Unwrap()
	}
	return err
}

// mail sends by SMTP (RFC 5321), over TLS where the server offers it.
func mail(ctx context.Context, to notice.Mail, password string, m *notice.Message, id int64) error {
	var d net.Dialer
	conn, err := d.DialContext(ctx, "tcp", to.Server)
	if err != nil {
		return err
	}
	defer conn.Close()
	if until, ok := ctx.Deadline(); ok {
		_ = conn.SetDeadline(until)
	}
	host, _, _ := net.SplitHostPort(to.Server)
	c, err := smtp.NewClient(conn, host)
	if err != nil {
		return err
	}
	defer c.Close()
	if ok, _ := c.Extension("STARTTLS"); ok {
		if err := c.StartTLS(&tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}); err != nil {
			return err
		}
	}
	if to.User != "" {
		if err := c.Auth(smtp.PlainAuth("", to.User, password, host)); err != nil {
			return err
		}
	}
	if err := c.Mail(to.From); err != nil {
		return err
	}
	for _, t := range to.To {
		if err := c.Rcpt(t); err != nil {
			return err
		}
	}
	w, err := c.Data()
	if err != nil {
		return err
	}
	text := fmt.Sprintf("From: %s\r\nTo: %s\r\nSubject: %s\r\nDate: %s\r\nMessage-ID: <notice-%d@synaxis>\r\n"+
		"MIME-Version: 1.0\r\nContent-Type: text/plain; charset=utf-8\r\nContent-Transfer-Encoding: 8bit\r\n\r\n%s",
		to.From, strings.Join(to.To, ", "), mime.QEncoding.Encode("utf-8", oneLine(m.Subject())),
		m.At.Format(time.RFC1123Z), id, strings.ReplaceAll(m.Text(), "\n", "\r\n"))
	if _, err := io.WriteString(w, text); err != nil {
		return err
	}
	if err := w.Close(); err != nil {
		return err
	}
	return c.Quit()
}

func oneLine(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return ' '
		}
		return r
	}, s)
}

// logLine sends a line by RFC 5424 for each cause; over TCP with octet counting (RFC 6587).
func logLine(ctx context.Context, to notice.Syslog, m *notice.Message, id int64) error {
	var d net.Dialer
	conn, err := d.DialContext(ctx, to.Transport, to.Address)
	if err != nil {
		return err
	}
	defer conn.Close()
	if until, ok := ctx.Deadline(); ok {
		_ = conn.SetDeadline(until)
	}
	name, err := os.Hostname()
	if err != nil {
		name = "-"
	}
	for _, i := range m.Items {
		const daemon = 3 * 8
		severity := 4 // warning
		switch {
		case i.What == notice.Ends:
			severity = 5
		case i.State == "failing" || i.State == "offline":
			severity = 3
		}
		line := fmt.Sprintf("<%d>1 %s %s synaxisd - notice - %s", daemon+severity, m.At.Format(time.RFC3339Nano), name,
			oneLine(fmt.Sprintf("%s %s: %s (%s) message=%d", m.Notice, i.What, i.Words, i.Where, id)))
		if to.Transport == "tcp" {
			line = fmt.Sprintf("%d %s", len(line), line)
		}
		if _, err := io.WriteString(conn, line); err != nil {
			return err
		}
	}
	return nil
}
