package fix

import (
	"cmp"
	"errors"
	"fmt"
	"html"
	"net/http"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/bcrypt"

	"weltaxis/internal/facts"
	"weltaxis/internal/identity"
	"weltaxis/internal/site"
	"weltaxis/internal/source/server"
)

// A Shutting is how a site is closed by a notice, or locked with name and password, and how that is taken away again.
type Shutting struct {
	Lock           bool
	Open           bool      // it is taken away
	Message        string    // of the notice; "" leaves what it says
	Until          time.Time // when the site is to be back
	Name, Password string    // of the lock
	Server         bool      // by the web server, whatever switch the content system has
	Cookie         string    // by which the web server knows staff; "" for nobody
	Left           []string  // places that the lock does not stand before, and that are left so
}

// switches are the settings by which a content system is closed or locked.
func (s Shutting) switches() []string {
	if s.Lock {
		return []string{facts.LockOn.Short(), facts.LockName.Short(), facts.LockPassword.Short()}
	}
	return []string{facts.MaintenanceOn.Short()}
}

// bySwitch tells whether the content system has the switch, and this program knows where.
func (s Shutting) bySwitch(w *Wishes) bool {
	if s.Server || w.Dialect == nil {
		return false
	}
	for _, name := range s.switches() {
		if _, mapped := w.Dialect.Settings[name]; !mapped {
			return false
		}
	}
	return true
}

// ErrNoWay is that a site can be closed neither here nor there.
var ErrNoWay = errors.New("neither the content system has a switch that its dialect names, nor does the site file name the web server's configuration (sources: server:); say where one of them is")

// ErrByServer is that what the web server was told is taken back, and not told anew.
var ErrByServer = errors.New("the web server was told so by a run of this program, which is taken back")

// Into makes the wishes of a plan those of closing or opening the site, and no others.
func (s Shutting) Into(w *Wishes, of *site.Site, seen *facts.Snapshot) error {
	w.Deviations, w.Covered, w.Values, w.Secrets, w.Judged = nil, nil, map[string]string{}, map[string]string{}, nil
	if s.bySwitch(w) {
		return s.bySettings(w)
	}
	switch {
	case w.World == nil:
		return ErrNoWay
	case s.Open:
		return ErrByServer
	}
	shut := &facts.Shut{Lock: s.Lock, Spares: []string{"/robots.txt", "/.well-known/acme-challenge/"}, Retry: retryAfter(s.Until, seen.Taken), Left: s.Left}
	if s.Lock {
		hashed, err := hash(s.Password)
		if err != nil {
			return err
		}
		servers, _ := w.World.Open(nil)
		if len(servers.Servers) == 0 {
			return errors.New("no configuration of a web server was found")
		}
		file, err := filepath.Abs(filepath.Join(filepath.Dir(servers.Servers[0].File), passwordsName+facts.URLHost(w.Home)))
		if err != nil {
			return err
		}
		shut.File, shut.Holds, shut.Group = file, s.Name+":"+hashed+"\n", readers(servers.Servers[0])
		w.Shut = shut
		return nil
	}
	shut.SignIn = signIn(seen.Hints.First(facts.LoginPathHint))
	shut.Cookie, shut.Notice = s.Cookie, s.markup(of, seen)
	w.Shut = shut
	return nil
}

// plainPath is a path that cannot be written in another way.
var plainPath = regexp.MustCompile(`^(?:/[A-Za-z0-9_-]+(?:\.[A-Za-z0-9_-]+)*)+$`)

// signIn is the path at which staff signs in, as it stays open under a notice; "" for one at which everything else is answered as well.
func signIn(login string) string {
	path, _, _ := strings.Cut(strings.TrimSuffix(login, "/"), "?")
	if path = strings.TrimSuffix(path, "/"); !plainPath.MatchString(path) || strings.HasPrefix(filepath.Base(path), "index.") || strings.Contains(login, "?") {
		return ""
	}
	return path
}

// readers is the group in which a server does its work, where whoever runs this may give it a file; 0 where that is not so, or it is not known.
func readers(one *server.Server) uint32 {
	user, group := one.Worker()
	account, known := identity.Accounts().Named(user)
	if !known || identity.Caller() != 0 {
		return 0
	}
	gid := account.GID
	if group != "" {
		if gid, known = identity.Accounts().GroupNamed(group); !known {
			return 0
		}
	}
	in, known := identity.Accounts().In(gid)
	for _, other := range in {
		known = known && (other.UID == account.UID || other.UID == 0)
	}
	if !known { // others are in it as well, or nobody knows
		return 0
	}
	return gid
}

// passwordsName is how the list of names and passwords is called that a lock of the web server's reads; the host comes after it.
const passwordsName = "weltaxis-lock-"

func (s Shutting) bySettings(w *Wishes) error {
	switch {
	case s.Open && s.Lock:
		w.Values[facts.LockOn.Short()] = "no"
	case s.Open:
		w.Values[facts.MaintenanceOn.Short()] = "no"
	case s.Lock:
		hashed, err := hash(s.Password)
		if err != nil {
			return err
		}
		w.Values[facts.LockOn.Short()], w.Values[facts.LockName.Short()], w.Secrets[facts.LockPassword.Short()] = "yes", s.Name, hashed
	default:
		w.Values[facts.MaintenanceOn.Short()] = "yes"
		if s.Message != "" {
			w.Values[facts.MaintenanceMessage.Short()] = s.Message
		}
	}
	return nil
}

// hash is a password as bcrypt keeps it, which every one of the servers reads.
func hash(password string) (string, error) {
	hashed, err := bcrypt.GenerateFromPassword([]byte(password), bcrypt.DefaultCost)
	if errors.Is(err, bcrypt.ErrPasswordTooLong) {
		return "", errors.New("the password has more than 72 bytes, of which bcrypt takes no notice; say a shorter one")
	}
	return string(hashed), err
}

// usualRetry is after how many seconds it is worth while to come again, where nobody says until when.
const usualRetry = 3600

// retryAfter is the seconds until then, at least a minute, and at most a day: who comes again too early comes again.
func retryAfter(until, now time.Time) int {
	if until.IsZero() {
		return usualRetry
	}
	return int(min(max(until.Sub(now), time.Minute), 24*time.Hour).Seconds())
}

// markup is the notice as a page of its own, which loads nothing.
func (s Shutting) markup(of *site.Site, seen *facts.Snapshot) string {
	said := func(term *facts.Term) string {
		r, known := seen.Effective(term.Name)
		if !known || r.Absent || r.Factory {
			return ""
		}
		return r.Value.Text()
	}
	brand := cmp.Or(of.Said("brand"), said(facts.SiteTitle.Term), facts.URLHost(of.Address()))
	message := cmp.Or(s.Message, said(facts.MaintenanceMessage.Term))
	if message == "" {
		message = brand + " is closed for a while."
		if !s.Until.IsZero() {
			message = fmt.Sprintf("%s is closed for a while, and will be back by %s.", brand, s.Until.Format("2 January, 15:04 MST"))
		}
		if mail := said(facts.MaintenanceContact.Term); mail != "" {
			message += " Questions: " + mail
		}
	}
	return fmt.Sprintf("<!doctype html><html lang='%s'><head><meta charset='utf-8'><meta name='viewport' content='width=device-width'><title>%s</title>"+
		"<style>body{font:1.1em/1.5 sans-serif;max-width:34em;margin:20vh auto;padding:0 1em}</style></head><body><h1>%s</h1><p>%s</p></body></html>",
		html.EscapeString(cmp.Or(of.Said("language"), "en")), html.EscapeString(brand), html.EscapeString(brand), html.EscapeString(message))
}

// ShutName is what a change is called by which the web server closes a site or locks it.
func ShutName(lock bool) string {
	if lock {
		return "the lock"
	}
	return "the maintenance notice"
}

// shut is the change by which the web server closes the site, or locks it.
func (p *planning) shut() Change {
	c := Change{Kind: Server, Name: ShutName(p.Shut.Lock), Rules: []string{}, Risk: facts.Disruptive, Noticed: []facts.Who{facts.Visitors, facts.Engines}, Group: toldTogether,
		wish: &facts.Wish{Shut: p.Shut}, addresses: []string{p.Home}, meant: []int{http.StatusServiceUnavailable}}
	if p.Shut.Lock {
		c.meant = []int{http.StatusUnauthorized}
		c.again = again{int(Keep/(24*time.Hour)) - 1, "The site is locked from here. Take the lock away (weltaxis lock off), or keep it on purpose: from tomorrow on what this program needs for that is thrown away, and the lines are taken out by hand.", true}
	}
	return c
}

// Standing are the changes of the newest run by which the web server closed the site, or locked it, as far as they stand; the newest first.
func Standing(records []LogLine, lock bool) (standing []LogLine) {
	run := ""
	for _, r := range records {
		if r.Kind == Server && r.Name == ShutName(lock) && r.made() {
			run = r.Run
		}
	}
	for _, r := range slices.Backward(records) {
		if run != "" && r.Run == run && r.made() {
			standing = append(standing, r)
		}
	}
	return standing
}
