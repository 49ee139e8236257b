package nginx

import (
	"slices"
	"strconv"
	"strings"

	"weltaxis/internal/directives"
	"weltaxis/internal/facts"
	"weltaxis/internal/source/server/answer"
)

// cache is what a cache of the server does with the answers of a program.
func (r *request) cache(kind string) {
	n := r.loc.find(kind + "_cache")
	if n == nil || n.Arg(0) == "off" {
		r.a.Lack(answer.Zone, at(n), "no cache of the server is on here")
		return
	}
	zone := r.expand(n.Arg(0), n)
	if zone.Why != nil {
		r.a.Hide(answer.Zone, *zone.Why)
		r.a.Keeping = &answer.Keeping{Unsure: zone.Why, Origin: at(n)}
		return
	}
	if zone.S == "off" || zone.S == "" {
		r.a.Lack(answer.Zone, at(n), "no cache of the server is on here")
		return
	}
	r.a.Say(answer.Zone, at(n), zone.S)
	r.a.Then(at(n), "a cache of the server may keep it: "+zone.S)
	k := &answer.Keeping{Zone: zone.S, Origin: at(n), Methods: []string{"GET", "HEAD"}, Uses: 1}
	r.a.Keeping = k
	r.keepsFor(k, kind)
	r.keepsUnless(k, kind)
	if ignored := r.loc.find(kind + "_ignore_headers"); ignored != nil {
		for _, name := range ignored.Args {
			k.Ignored = append(k.Ignored, strings.ToLower(name))
		}
		if slices.Contains(k.Ignored, "set-cookie") || slices.Contains(k.Ignored, "cache-control") {
			r.a.Say(answer.Private, at(ignored), "yes")
		}
	}
	if uses := r.loc.find(kind + "_cache_min_uses"); uses != nil {
		k.Uses, _ = strconv.Atoi(uses.Arg(0))
	}
	if methods := r.loc.find(kind + "_cache_methods"); methods != nil {
		for _, method := range methods.Args {
			k.Methods = append(k.Methods, strings.ToUpper(method))
		}
	}
	if stale := r.loc.find(kind + "_cache_use_stale"); stale != nil {
		k.Stale = stale.Args
	}
	r.keepsAs(k, kind)
	for _, text := range []answer.Text{k.Key, k.Bypass, k.NoKeep} {
		if text.Why != nil && k.Unsure == nil {
			k.Unsure = text.Why
		}
	}
}

// keepsAs fills in the key. The usual one of proxy is the address of what is behind; FastCGI and its kin have none, and keep
// one answer for all addresses.
func (r *request) keepsAs(k *answer.Keeping, kind string) {
	key := r.loc.find(kind + "_cache_key")
	switch onward := r.a.Onward; {
	case key != nil:
		k.Key = r.expand(key.Arg(0), key)
		r.a.Say(answer.Key, at(key), key.Arg(0))
	case kind != "proxy":
		r.a.Lack(answer.Key, k.Origin, "no line says what tells one kept answer from another, so one is given for all addresses")
	case onward != nil:
		k.Key = answer.Known(onward.Address + onward.Ask.Target)
		r.a.Say(answer.Key, k.Origin, "$proxy_host$request_uri")
	default:
		k.Key = answer.Text{Why: &facts.Reason{Because: "what is behind is not told", Origin: k.Origin}}
		r.a.Hide(answer.Key, *k.Key.Why)
	}
}

// keepsFor fills in how long answers are kept that do not say it themselves.
func (r *request) keepsFor(k *answer.Keeping, kind string) {
	valid, _ := r.loc.list(kind + "_cache_valid")
	for _, v := range valid {
		said := answer.Term{Codes: v.Args[:max(len(v.Args)-1, 0)], Seconds: seconds(v.Arg(len(v.Args) - 1)), Origin: at(v)}
		if len(said.Codes) == 0 {
			said.Codes = []string{"200", "301", "302"}
		}
		k.Valid = append(k.Valid, said)
	}
	for _, v := range k.Valid {
		if slices.Contains(v.Codes, "200") || slices.Contains(v.Codes, "any") {
			r.a.Say(answer.Valid, v.Origin, strconv.Itoa(v.Seconds))
			break
		}
	}
}

// keepsUnless fills in when the program is asked all the same, and when what it answers is not kept.
func (r *request) keepsUnless(k *answer.Keeping, kind string) {
	var said []string
	var first *directives.Node
	for _, condition := range []struct {
		name string
		text *answer.Text
	}{{kind + "_cache_bypass", &k.Bypass}, {kind + "_no_cache", &k.NoKeep}} {
		lines, _ := r.loc.list(condition.name)
		for _, line := range lines {
			for _, value := range line.Args {
				if first == nil {
					first = line
				}
				if !slices.Contains(said, value) {
					said = append(said, value)
				}
				if text := r.expand(value, line); text.Why != nil || text.S != "" && text.S != "0" {
					*condition.text = condition.text.Plus(text)
				}
			}
		}
	}
	if first != nil {
		r.a.Say(answer.Bypass, at(first), strings.Join(said, " "))
	}
}
