package server

import (
	"net/http"
	"net/url"
	"slices"
	"strings"

	"weltaxis/internal/facts"
	"weltaxis/internal/policy"
	"weltaxis/internal/source/server/answer"
)

// maxVersion is how much of a header that names a version is shown.
const maxVersion = 100

// mostSteps is how many times it is followed where an address leads.
const mostSteps = 6

// derived are the fields of an answer that follow from its headers: what a browser makes of them.
func derived(a *answer.Answer, cells facts.Cells) {
	header := http.Header{}
	from := func(field string, names ...string) (facts.Origin, bool) {
		var at facts.Origin
		for _, name := range names {
			told := a.Get(answer.Header(name))
			if told.Unknown != nil {
				cells[field] = facts.Cell{Unknown: told.Unknown.Because, Origin: told.Unknown.Origin}
				return at, false
			}
			if header[http.CanonicalHeaderKey(name)] = told.Values; len(told.Values) > 0 || at == (facts.Origin{}) {
				at = told.Origin
				at.Because = told.Because
			}
		}
		return at, true
	}
	put := func(field string, v facts.Value, at facts.Origin) { cells[field] = facts.Cell{Value: v, Origin: at} }
	// inPage is that a tag of the page may say what no header does.
	inPage := func(field, name, what string, at facts.Origin) bool {
		if len(header[http.CanonicalHeaderKey(name)]) > 0 || a.Text(answer.Handler) == "listing" {
			return false
		}
		cells[field] = facts.Cell{Unknown: "no header says it, and a tag of the page may: " + what, Origin: at}
		return true
	}
	if at, told := from("frames_limited", "content-security-policy", "x-frame-options"); told {
		_, limits := policy.Framing(header)
		put("frames_limited", facts.BoolOf(limits), at)
	}
	if at, told := from("sniff_stopped", "x-content-type-options"); told {
		_, stops := policy.Sniffing(header)
		put("sniff_stopped", facts.BoolOf(stops), at)
	}
	if at, told := from("referrer_short", "referrer-policy"); told && !inPage("referrer_short", "referrer-policy", `<meta name="referrer">`, at) {
		_, limits := policy.Referrer(header, "")
		put("referrer_short", facts.BoolOf(limits), at)
	}
	if at, told := from("hsts_seconds", "strict-transport-security"); told {
		_, seconds := policy.Transport(header)
		put("hsts_seconds", facts.NumberOf(facts.Int, seconds), at)
	}
	if at, told := from("policy_lets", "content-security-policy"); told && !inPage("policy_lets", "content-security-policy", `<meta http-equiv="Content-Security-Policy">`, at) {
		_, lets := policy.Scripts(header)
		put("policy_lets", facts.ListOf(lets...), at)
	}
	if at, told := from("feature_limits", "permissions-policy"); told {
		_, limited := policy.Features(header)
		put("feature_limits", facts.NumberOf(facts.Int, int64(limited)), at)
	}
	if at, told := from("tells_versions", "server"); told {
		said := http.Header{"Server": header["Server"]}
		for f, told := range a.Fields {
			if name, is := f.IsHeader(); is && told.Known() && len(told.Values) > 0 {
				said[http.CanonicalHeaderKey(name)] = told.Values
			}
		}
		versions := policy.Versions(said)
		for i := range versions {
			versions[i] = facts.Shorten(versions[i], maxVersion)
		}
		put("tells_versions", facts.ListOf(versions...), at)
	}
}

// leads are the fields of an answer that tell where whoever follows it ends.
func (s *Source) leads(u *url.URL, a *answer.Answer, cells facts.Cells) {
	names := []string{"leads_to", "leads_in", "leads_for_good", "preferred"}
	unknown := func(because string, at facts.Origin) {
		for _, name := range names {
			cells[name] = facts.Cell{Unknown: because, Origin: at}
		}
	}
	want := *s.Address
	want.Path, want.RawPath, want.RawQuery = u.Path, u.RawPath, u.RawQuery
	at := a.Get(answer.Status).Origin
	steps, forGood, final := 0, true, u
	for {
		status, location := a.Get(answer.Status), a.Get(answer.Location)
		switch {
		case facts.SameAddress(final.String(), want.String()): // there somebody is
		case location.Unknown != nil:
			unknown(location.Unknown.Because, location.Unknown.Origin)
			return
		case !status.Known():
			unknown(status.Unknown.Because, status.Unknown.Origin)
			return
		case len(location.Values) > 0 && strings.HasPrefix(status.Text(), "3"):
			next, err := final.Parse(location.Text())
			if err != nil || steps == mostSteps {
				unknown("it leads on and on, or to what is no address", location.Origin)
				return
			}
			if steps == 0 {
				at = location.Origin
			}
			steps, final, forGood = steps+1, next, forGood && slices.Contains([]string{"301", "308"}, status.Text())
			if !s.own(next) {
				break
			}
			a = s.Work(next)
			continue
		}
		break
	}
	for name, v := range map[string]facts.Value{
		"leads_to": facts.TextOf(facts.String, final.String()), "leads_in": facts.NumberOf(facts.Int, int64(steps)),
		"leads_for_good": facts.BoolOf(forGood), "preferred": facts.BoolOf(facts.SameAddress(final.String(), want.String())),
	} {
		cells[name] = facts.Cell{Value: v, Origin: at}
	}
}

// own tells whether an address is one of a host that the outermost server has.
func (s *Source) own(u *url.URL) bool {
	return strings.EqualFold(u.Hostname(), s.Address.Hostname()) || len(s.Servers[0].Serves(u.Hostname())) > 0
}

// listens tells whether anybody is at the port of an address: the outermost server, or whoever encrypts before it.
func (s *Source) listens(u *url.URL) facts.Cell {
	at := s.near(facts.Origin{File: s.Servers[0].File, Line: 1})
	if s.ask(s.Address).Secure {
		return facts.Cell{Unknown: "something stands before this server and encrypts, and that decides", Origin: at}
	}
	return facts.Cell{Value: facts.BoolOf(s.Servers[0].Listens(portOf(s.ask(u)))), Origin: at}
}
