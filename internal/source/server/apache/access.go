package apache

import (
	"net/http"
	"net/netip"
	"slices"
	"strings"

	"weltaxis/internal/directives"
	"weltaxis/internal/facts"
	"weltaxis/internal/source/server/answer"
)

// verdict is what a rule of access says, before anybody has given a name.
type verdict int

const (
	neutral  verdict = iota
	granted          // it lets the request through
	refused          // it does not
	wantsWho         // it depends on who it is
)

// access decides whether the request may go on; when not, it has been answered.
func (r *request) access() bool {
	// What applies is the same as for the request it comes from, and then the server does not ask again.
	if from := r.before; from != nil && from.set != nil && slices.Equal(from.set.applied, r.set.applied) {
		return true
	}
	if from := r.whole; from != nil && from.set != nil && slices.Equal(from.set.applied, r.set.applied) {
		return true
	}
	old, oldAt := r.oldRules()
	v, where := r.required()
	any := r.set.satisfy != nil && strings.EqualFold(r.set.satisfy.Arg(0), "any")
	if any && r.set.order != nil && old == granted {
		return true
	}
	if old == refused && !any {
		return r.deny(oldAt)
	}
	switch v {
	case refused:
		return r.deny(where)
	case wantsWho:
		if r.set.authType == nil || strings.EqualFold(r.set.authType.Arg(0), "none") {
			r.fail(http.StatusInternalServerError, at(where), "a name is required, and no AuthType says how it is asked for")
			return false
		}
		return r.ask.SignedIn || r.login(where)
	}
	if any && old == refused {
		return r.deny(oldAt)
	}
	return true
}

func (r *request) deny(n *directives.Node) bool {
	if r.sub {
		r.status = http.StatusForbidden
		return false
	}
	r.a.Say(answer.Denied, at(n), "yes")
	r.fail(http.StatusForbidden, at(n), "it is refused here: "+n.String())
	return false
}

func (r *request) login(n *directives.Node) bool {
	name := ""
	if r.set.authName != nil {
		name = r.set.authName.Arg(0)
	}
	r.challenge = &answer.Told{Values: []string{`Basic realm="` + name + `"`}, Origin: at(r.set.authType)}
	if r.sub {
		r.status = http.StatusUnauthorized
		return false
	}
	r.a.Say("login", at(n), "yes")
	*r.challenged = r.challenge
	r.fail(http.StatusUnauthorized, at(n), "name and password are asked for here: "+n.String())
	return false
}

// oldRules are Order, Allow and Deny.
func (r *request) oldRules() (verdict, *directives.Node) {
	if len(r.set.allows) == 0 && r.set.order == nil {
		return neutral, nil
	}
	fits := func(kind string) *directives.Node {
		for _, n := range r.set.allows {
			if !n.Is(kind) || !strings.EqualFold(n.Arg(0), "from") {
				continue
			}
			for _, who := range n.Args[1:] {
				if strings.EqualFold(who, "all") || r.isFrom(who, n) {
					return n
				}
			}
		}
		return nil
	}
	allow, deny := fits("Allow"), fits("Deny")
	allowFirst := r.set.order != nil && strings.EqualFold(strings.ReplaceAll(strings.Join(r.set.order.Args, ""), " ", ""), "allow,deny")
	switch {
	case allowFirst && deny != nil:
		return refused, deny
	case allowFirst && allow == nil:
		return refused, r.set.order
	case !allowFirst && deny != nil && allow == nil:
		return refused, deny
	}
	return granted, allow
}

// isFrom tells whether the visitor has an address of those.
func (r *request) isFrom(who string, n *directives.Node) bool {
	if !r.ask.Client.IsValid() {
		return false
	}
	if prefix, err := netip.ParsePrefix(who); err == nil {
		return prefix.Contains(r.ask.Client)
	}
	if address, err := netip.ParseAddr(who); err == nil {
		return address == r.ask.Client
	}
	if strings.Trim(who, "0123456789.") == "" { // the beginning of an address
		return strings.HasPrefix(r.ask.Client.String()+".", strings.TrimSuffix(who, ".")+".")
	}
	return r.g.Either(facts.Reason{Because: "whether a visitor is of " + who + " cannot be told", Origin: at(n)})
}

// required is what Require says; neutral when nothing is required.
func (r *request) required() (verdict, *directives.Node) {
	if len(r.set.requires) == 0 {
		return neutral, nil
	}
	v, n := r.anyOf(r.set.requires)
	if v == neutral {
		v, n = refused, r.set.requires[0]
	}
	return v, n
}

// anyOf is a list of which one is enough.
func (r *request) anyOf(list []*directives.Node) (verdict, *directives.Node) {
	out, where := neutral, (*directives.Node)(nil)
	for _, n := range list {
		v, at := r.requirement(n)
		switch {
		case v == granted:
			return granted, at
		case v == wantsWho || v == refused && out == neutral:
			out, where = v, at
		}
	}
	return out, where
}

// allOf is a list that must hold as a whole.
func (r *request) allOf(list []*directives.Node) (verdict, *directives.Node) {
	out, where := neutral, (*directives.Node)(nil)
	for _, n := range list {
		v, at := r.requirement(n)
		switch {
		case v == refused:
			return refused, at
		case v == wantsWho || v == granted && out == neutral:
			out, where = v, at
		}
	}
	return out, where
}

func (r *request) requirement(n *directives.Node) (verdict, *directives.Node) {
	switch {
	case n.Is("RequireAny"):
		return r.anyOf(n.Body)
	case n.Is("RequireAll"):
		return r.allOf(n.Body)
	case n.Is("RequireNone"):
		v, at := r.anyOf(n.Body)
		switch v {
		case granted:
			return refused, at
		case refused:
			return neutral, at
		}
		return v, at
	case n.Hole != "" || !n.Is("Require"):
		return r.guessed(n, facts.Reason{Because: n.String() + " is not evaluated", Origin: at(n)})
	}
	words := n.Args
	not := len(words) > 0 && strings.EqualFold(words[0], "not")
	if not {
		words = words[1:]
	}
	if len(words) == 0 {
		return refused, n
	}
	v := refused
	switch strings.ToLower(words[0]) {
	case "all":
		if len(words) > 1 && strings.EqualFold(words[1], "granted") {
			v = granted
		}
	case "ip":
		for _, who := range words[1:] {
			if r.isFrom(who, n) {
				v = granted
			}
		}
	case "local":
		if r.ask.Client.IsValid() && (r.ask.Client.IsLoopback() || r.ask.Local.IsValid() && r.ask.Client == r.ask.Local) {
			v = granted
		}
	case "method":
		for _, method := range words[1:] {
			if strings.EqualFold(method, r.method) || strings.EqualFold(method, "GET") && r.method == http.MethodHead {
				v = granted
			}
		}
	case "env":
		v, _ = r.guessed(n, facts.Reason{Because: n.String() + " is not evaluated", Origin: at(n)})
	case "expr":
		if r.expression(strings.Join(words[1:], " "), n) {
			v = granted
		}
	case "valid-user", "user", "group", "file-group", "file-owner", "ldap-user", "ldap-group", "dbm-group":
		v = wantsWho
	default:
		v, _ = r.guessed(n, facts.Reason{Because: n.String() + " is not evaluated", Origin: at(n)})
	}
	if not {
		switch v {
		case granted:
			return refused, n
		case refused:
			return neutral, n
		}
	}
	return v, n
}

func (r *request) guessed(n *directives.Node, why facts.Reason) (verdict, *directives.Node) {
	if r.g.Either(why) {
		return granted, n
	}
	return refused, n
}
