package nginx

import (
	"net/http"
	"net/netip"
	"strings"

	"weltaxis/internal/directives"
	"weltaxis/internal/facts"
	"weltaxis/internal/source/server/answer"
)

// access decides whether the request may go on, and goes on.
func (r *request) access() {
	if why := r.loc.unsure(func(k class) bool { return k == decides || k == unheard }); why != nil && r.g.Either(*why) {
		r.unknown(*why)
		return
	}
	any := r.loc.find("satisfy")
	status, node := r.allowed()
	login := r.login()
	switch {
	case any != nil && any.Arg(0) == "any":
		ruled := status != 0 || node != nil
		switch {
		case ruled && status == 0: // one of the rules lets it in, and that is enough
		case login != nil && r.ask.SignedIn:
		case login != nil:
			r.unauthorised(login)
			return
		case status != 0:
			r.deny(node)
			return
		}
	case status != 0:
		r.deny(node)
		return
	case login != nil && !r.ask.SignedIn:
		r.unauthorised(login)
		return
	}
	r.try()
}

func (r *request) deny(n *directives.Node) {
	r.a.Say(answer.Denied, at(n), "yes")
	r.a.Then(at(n), "it is refused here: "+n.String())
	r.special(http.StatusForbidden, at(n), n)
}

func (r *request) unauthorised(n *directives.Node) {
	r.a.Say(answer.Login, at(n), "yes")
	r.asked = n
	r.challenges = append(r.challenges, `Basic realm="`+r.expand(n.Arg(0), n).S+`"`)
	r.a.Then(at(n), "name and password are asked for here: "+n.String())
	r.special(http.StatusUnauthorized, at(n), n)
}

// allowed is what the rules of access say, the first that fits; the status is 0 when they let it through, and the node is nil
// when none fits.
func (r *request) allowed() (int, *directives.Node) {
	rules, _ := r.loc.list("allow", "deny")
	for _, rule := range rules {
		fits := false
		switch who := rule.Arg(0); {
		case who == "all":
			fits = true
		case strings.HasPrefix(who, "unix:"):
		case !r.ask.Client.IsValid(): // somebody from anywhere, who is in no list
		default:
			if prefix, err := netip.ParsePrefix(who); err == nil {
				fits = prefix.Contains(r.ask.Client)
			} else if address, err := netip.ParseAddr(who); err == nil {
				fits = address == r.ask.Client
			} else {
				fits = r.g.Either(facts.Reason{Because: "the address " + who + " is not understood", Origin: at(rule)})
			}
		}
		if !fits {
			continue
		}
		if rule.Is("deny") {
			return http.StatusForbidden, rule
		}
		return 0, rule
	}
	return 0, nil
}

// login is the directive that asks for name and password; nil when none does.
func (r *request) login() *directives.Node {
	n := r.loc.find("auth_basic")
	if n == nil || n.Arg(0) == "off" {
		return nil
	}
	realm := r.expand(n.Arg(0), n)
	if realm.Why == nil && (realm.S == "off" || realm.S == "" && strings.Contains(n.Arg(0), "$")) {
		return nil
	}
	if realm.Why != nil && !r.g.Either(*realm.Why) {
		return nil
	}
	return n
}

// try carries out try_files, and goes on to the content.
func (r *request) try() {
	n := r.loc.own("try_files")
	if len(n) == 0 || len(n[0].Args) < 2 {
		r.content()
		return
	}
	tries := n[0].Args
	for i, name := range tries {
		if i == len(tries)-1 {
			r.lastTry(n[0], name)
			return
		}
		folder := strings.HasSuffix(name, "/")
		target := r.expand(strings.TrimSuffix(name, "/"), n[0])
		if target.Why != nil {
			if r.g.Either(*target.Why) {
				r.unknown(*target.Why)
				return
			}
			continue
		}
		path, uri := r.tryPath(target.S, strings.Contains(name, "$"))
		entry := r.disk.Look(path)
		if entry.Is == answer.Unseen {
			if !r.g.Either(facts.Reason{Because: entry.Why, Origin: at(n[0])}) {
				continue
			}
		} else if entry.Is != map[bool]answer.Lies{true: answer.AFolder, false: answer.AFile}[folder] {
			continue
		}
		r.a.Then(at(n[0]), "try_files finds "+path)
		r.uri = answer.Known(uri)
		r.tried = n[0]
		r.content()
		return
	}
}

// tryPath is the path of a try, and what the address becomes when it is found.
func (r *request) tryPath(name string, varies bool) (path, uri string) {
	alias := r.loc.aliased()
	if alias == nil {
		return r.root().S + name, name
	}
	base := r.expand(alias.Arg(0), alias).S
	n := r.aliasPrefix(alias)
	if n < 0 {
		r.addToAlias = true
		return r.path(base) + name, name
	}
	prefix := r.uri.S[:min(n, len(r.uri.S))]
	if varies {
		name = strings.TrimPrefix(name, prefix)
	}
	return r.path(base) + name, prefix + name
}

func (r *request) lastTry(n *directives.Node, name string) {
	switch {
	case strings.HasPrefix(name, "="):
		r.a.Then(at(n), "try_files finds nothing")
		r.special(number(name[1:]), at(n), n)
	case strings.HasPrefix(name, "@"):
		r.a.Then(at(n), "try_files finds nothing and goes to "+name)
		r.goNamed(name, n)
	default:
		target := r.expand(name, n)
		path, args, _ := strings.Cut(target.S, "?")
		r.a.Then(at(n), "try_files finds nothing and goes to "+target.S)
		r.goTo(answer.Text{S: path, Why: target.Why}, args)
	}
}

// unknown hides everything but which server answers.
func (r *request) unknown(why facts.Reason) {
	r.a.Others = &why
	for _, f := range all {
		if f != answer.Server || r.host == nil {
			r.a.Hide(f, why)
		}
	}
}
