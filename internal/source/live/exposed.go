package live

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
	"slices"
	"strings"
	"time"

	"weltaxis/internal/facts"
)

// tlsVersions are those that can be tried from here, the oldest first. What is older than TLS 1.0 this program does not speak.
var tlsVersions = []uint16{tls.VersionTLS10, tls.VersionTLS11, tls.VersionTLS12, tls.VersionTLS13}

// offered finds which versions of TLS the site offers, by one handshake for each with all that goes with it (RFC 8446 §4.2.1). A
// connection that fails otherwise leaves it unknown.
func (v *visit) offered(ctx context.Context) {
	if v.home.Scheme != "https" {
		return
	}
	address := net.JoinHostPort(v.home.Hostname(), cmp.Or(v.home.Port(), "443"))
	found := []string{}
	for _, version := range tlsVersions {
		if err := v.client.limiter.Wait(ctx); err != nil {
			return
		}
		offers, err := v.shakesHands(ctx, address, &tls.Config{ServerName: v.home.Hostname(), MinVersion: version, MaxVersion: version, CipherSuites: allCiphers(), InsecureSkipVerify: true}) // the certificate is judged elsewhere
		if err != nil {
			v.seen.AddGap(gap(fmt.Sprintf("%s at %s", tls.VersionName(version), address), err, facts.LiveTLSVersions.Name))
			return
		}
		if offers {
			found = append(found, tls.VersionName(version))
		}
	}
	say(v, facts.LiveTLSVersions, found, v.home.String())
}

// shakesHands tells whether there is a connection that both sides understand.
func (v *visit) shakesHands(ctx context.Context, address string, config *tls.Config) (bool, error) {
	err := v.client.shakeHands(ctx, config, func(ctx context.Context) (net.Conn, error) { return v.client.dial(ctx, "tcp", address) })
	var unmet *unmetError
	if errors.As(err, &unmet) { // an alert, or a connection that is closed: it will not have that version
		return false, nil
	}
	return err == nil, err
}

// An unmetError is that the other side is there and will not have the handshake.
type unmetError struct{ error }

func (e *unmetError) Unwrap() error { return e.error }

// shakeHands begins to encrypt a connection.
func (c *client) shakeHands(ctx context.Context, config *tls.Config, dial func(context.Context) (net.Conn, error)) error {
	patience := min(connectTime, c.patience)
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	connection, err := dial(ctx)
	if err != nil {
		return plainError(err)
	}
	defer connection.Close()
	_ = connection.SetDeadline(time.Now().Add(patience))
	err = tls.Client(connection, config).HandshakeContext(ctx)
	var timeout net.Error
	switch {
	case err == nil:
		return nil
	case errors.As(err, &timeout) && timeout.Timeout(), ctx.Err() != nil:
		return errSlow
	}
	return &unmetError{err}
}

// allCiphers are those that this program can speak, old ones too.
func allCiphers() (ciphers []uint16) {
	for _, suite := range slices.Concat(tls.CipherSuites(), tls.InsecureCipherSuites()) {
		ciphers = append(ciphers, suite.ID)
	}
	return ciphers
}

// contact reads security.txt (RFC 9116 §3): where it belongs, or at the top, where it stood before.
func (v *visit) contact(ctx context.Context) {
	if v.home.Scheme != "https" {
		return
	}
	for _, path := range []string{"/.well-known/security.txt", "/security.txt"} {
		at, _ := v.home.Parse(path)
		if !v.mayFetch(at) {
			v.seen.AddGap(gap(at.String(), errBarred, "live.security_contact."))
			return
		}
		ch, err := v.unlinked(ctx, at, at.String(), "live.security_contact.")
		if err != nil {
			return
		}
		if ch.last == nil || ch.last.status != http.StatusOK || isHTML(ch.last.header) {
			continue
		}
		c := parseContact(ch.last.body)
		if c.problem == "" && !strings.HasPrefix(strings.ToLower(ch.last.header.Get("Content-Type")), "text/plain") {
			c.problem = "it is not sent as text/plain"
		}
		say(v, facts.LiveContactThere, true, at.String())
		say(v, facts.LiveContactProblem, c.problem, at.String())
		if !c.expires.IsZero() {
			say(v, facts.LiveContactExpires, c.expires.Unix(), at.String())
		}
		return
	}
	at, _ := v.home.Parse("/.well-known/security.txt")
	say(v, facts.LiveContactThere, false, at.String())
	say(v, facts.LiveContactProblem, "", at.String())
}

// A securityContact is what security.txt says, as far as it matters here.
type securityContact struct {
	expires time.Time
	problem string // the first thing that is wrong with it, "" for nothing
}

// maxContact is how much of security.txt is read: RFC 9116 §5.4 names 32 KB as a sensible limit.
const maxContact = 32 << 10

// parseContact reads security.txt: at least one Contact, exactly one Expires (RFC 9116 §2.5.3, §2.5.5). What is signed around it is
// not looked at (§2.3).
func parseContact(data []byte) (c securityContact) {
	contacts, expires := 0, 0
	wrong := func(format string, args ...any) {
		if c.problem == "" {
			c.problem = fmt.Sprintf(format, args...)
		}
	}
	if len(data) > maxContact {
		wrong("it is longer than %d KiB", maxContact>>10)
		data = data[:maxContact]
	}
	for line := range strings.Lines(strings.TrimPrefix(string(data), "\ufeff")) {
		line = strings.TrimSpace(line)
		if strings.HasPrefix(line, "-----BEGIN PGP SIGNATURE") {
			break
		}
		name, value, is := strings.Cut(line, ":")
		if !is || strings.HasPrefix(line, "#") || strings.HasPrefix(line, "-----") {
			continue
		}
		value = strings.TrimSpace(value)
		switch strings.ToLower(strings.TrimSpace(name)) {
		case "contact":
			contacts++
			scheme, _, _ := strings.Cut(strings.ToLower(value), ":")
			if !slices.Contains([]string{"mailto", "https", "tel"}, scheme) {
				wrong("its contact is no address with mailto:, https: or tel: before it: %s", facts.Shorten(value, 60))
			}
		case "expires":
			expires++
			at, err := time.Parse(time.RFC3339, strings.ToUpper(value))
			if err != nil {
				wrong("the time at which it expires is none: %s", facts.Shorten(value, 60))
				continue
			}
			c.expires = at
		}
	}
	switch {
	case contacts == 0:
		wrong("it names no contact")
	case expires == 0:
		wrong("it does not say until when it is good")
	case expires > 1:
		wrong("it says %d times until when it is good", expires)
	}
	return c
}
