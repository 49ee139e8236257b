package report

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
)

// Access is the topic of who still has access.
const Access = "access"

// AccessOf is everybody and everything that gets at a site, as far as it was seen, beside who is meant to.
type AccessOf struct {
	Site    string        `json:"site"`
	Says    string        `json:"says"` // in one sentence
	Groups  []AccessGroup `json:"groups"`
	Unknown int           `json:"unknown"` // of whom the site file does not say that they should
	Known   int           `json:"known"`
}

// An AccessGroup is one way in.
type AccessGroup struct {
	Name   string      `json:"name"`
	About  string      `json:"about"`  // what it opens
	Intent string      `json:"intent"` // the key of the site file that says who is meant to
	Said   bool        `json:"said"`   // that key is there
	Rows   []AccessRow `json:"rows"`
	Unseen string      `json:"unseen"` // why nothing could be seen; "" when it was
}

// An AccessRow is one account, key, token, mailbox or host.
type AccessRow struct {
	Who   string `json:"who"`
	May   string `json:"may"`   // what it may do, or what it is for
	Since string `json:"since"` // a day, "" when it is not kept
	Used  string `json:"used"`  // when it was last used
	Known string `json:"known"` // yes, no, or unsaid: the site file does not say who is meant to
}

// The verdicts of a row.
const (
	accessKnown   = "yes"
	accessUnknown = "no"
	accessUnsaid  = "unsaid"
)

func explainAccess() *Explanation {
	return &Explanation{Name: Access, Kind: "topic", Here: []Part{}, Parts: []Part{
		{"accounts", "Who signs in, and what they may do. Those with the highest role are meant to be named under intent, staff."},
		{"keys", "What other services come in with, without a password, and which services are called. They are meant to be named under intent, services."},
		{"tokens", "Whoever has proved to a search engine that the site is theirs sees its figures, and may have pages taken out. Tokens are meant to stand under intent, tokens."},
		{"mailboxes", "Where letters of visitors and resets of passwords go: at domains under intent, mail_domains."},
		{"hosts in the head", "Code from there runs for every visitor, with all that the site may do. They are meant to be named under intent, services."},
		{"files", "Who on the server may change what is run, and read where the secrets stand."},
		{"why", "When a site changes hands, or somebody leaves, it is the first question: who else still has a key. What nobody has spoken of is not wrong for that; ask whose it is."},
		{"source", "CIS Controls v8, 5.1 and 6.2; NIST SP 800-53, AC-2"},
	}}
}

// AccessTo gathers who has access to a site that was looked at.
func AccessTo(r *audit.Result) *AccessOf {
	a := &AccessOf{Site: r.Site, Groups: []AccessGroup{}}
	s := r.Snapshot
	a.accounts(s)
	a.keys(s)
	a.tokens(s)
	a.mailboxes(s)
	a.headHosts(s)
	a.files(s)
	for _, g := range a.Groups {
		for _, row := range g.Rows {
			switch row.Known {
			case accessKnown:
				a.Known++
			case accessUnknown:
				a.Unknown++
			}
		}
	}
	switch {
	case a.Known+a.Unknown == 0:
		a.Says = "The site file does not say who is meant to have access, or nothing could be seen: say intent.staff, services, tokens and mail_domains."
	case a.Unknown == 0:
		a.Says = fmt.Sprintf("All %d that the site file says something about are meant to have access.", a.Known)
	default:
		a.Says = fmt.Sprintf("%s that nobody has spoken of, beside %d that the site file names.", Count(a.Unknown, "way in", "ways in"), a.Known)
	}
	return a
}

// said is a list of the intent; there is false when the site file does not say it.
func said(s *facts.Snapshot, term *facts.Term) (list []string, there bool) {
	r, there := s.Effective(term.Name)
	return r.Value.List(), there && r.Origin.Default == ""
}

// add adds a way in; from is the list or the setting that tells of it.
func (a *AccessOf) add(s *facts.Snapshot, g AccessGroup, from string, term *facts.Term) {
	if term != nil {
		_, g.Said = said(s, term)
		g.Intent = term.Short()
	}
	if g.Rows == nil {
		g.Rows = []AccessRow{}
	}
	if len(g.Rows) == 0 && g.Unseen == "" && from != "" {
		_, seen := s.Items(from)
		if _, known := s.Effective(from); !seen && !known {
			g.Unseen = s.Why(from)
		}
	}
	a.Groups = append(a.Groups, g)
}

// knownAs says whether something is meant to have access.
func knownAs(there, is bool) string {
	switch {
	case !there:
		return accessUnsaid
	case is:
		return accessKnown
	}
	return accessUnknown
}

func dayOf(v facts.Value, known bool) string {
	if !known || v.Number() == 0 {
		return ""
	}
	return time.Unix(v.Number(), 0).UTC().Format(time.DateOnly)
}

func textOf(item facts.Item, field string) string {
	v, known := item.Field(field)
	if !known {
		return ""
	}
	return v.Text()
}

func dayIn(item facts.Item, field string) string {
	v, known := item.Field(field)
	return dayOf(v, known)
}

// roleAccess are roles in words, the highest first.
var roleAccess = []struct{ role, may string }{{"highest", "may do everything"}, {"editor", "edits what others write"}, {"author", "writes"}, {"lowest", "signs in"}}

func (a *AccessOf) accounts(s *facts.Snapshot) {
	staff, there := said(s, facts.IntentStaff.Term)
	g := AccessGroup{Name: "accounts", About: "sign in with name and password"}
	items, _ := s.Items(facts.ListAccounts)
	members := 0
	for _, of := range roleAccess {
		for item := range items {
			if textOf(item, "role") != of.role {
				continue
			}
			if of.role == "lowest" {
				members++
				continue
			}
			row := AccessRow{Who: textOf(item, "name"), May: of.may, Since: dayIn(item, "created"), Used: dayIn(item, "last_seen")}
			if second, known := item.Field("second_factor"); known && !second.Bool() && of.role == "highest" {
				row.May += ", without a second factor"
			}
			row.Known = knownAs(there, slices.ContainsFunc(staff, func(name string) bool { return facts.Squashed(name) == facts.Squashed(row.Who) }))
			if of.role != "highest" && row.Known == accessUnknown {
				row.Known = accessUnsaid // staff names those who may do everything
			}
			g.Rows = append(g.Rows, row)
		}
	}
	if members > 0 {
		g.Rows = append(g.Rows, AccessRow{Who: Count(members, "member", "members"), May: "signs in, and no more", Known: accessUnsaid})
	}
	a.add(s, g, facts.ListAccounts, facts.IntentStaff.Term)
}

func (a *AccessOf) keys(s *facts.Snapshot) {
	services, there := said(s, facts.IntentServices.Term)
	g := AccessGroup{Name: "keys", About: "come in without a password, or are called"}
	items, _ := s.Items(facts.ListKeys)
	for item := range items {
		row := AccessRow{Who: cmp.Or(textOf(item, "service"), "nobody knows who"), May: "comes in with the key " + textOf(item, "name"), Since: dayIn(item, "created"), Used: dayIn(item, "last_used")}
		if textOf(item, "kind") == "call" {
			row.May = "is called as " + textOf(item, "name")
		}
		row.Known = knownAs(there, facts.IsService(textOf(item, "service"), services))
		g.Rows = append(g.Rows, row)
	}
	for _, of := range []struct {
		term *facts.Term
		who  string
	}{{facts.SecurityTransferPassword.Term, "whoever reads the configuration"}, {facts.SecurityMailboxPassword.Term, "whoever reads the settings"}} {
		if v, known := s.Is(of.term); known && v.Number() > 0 {
			g.Rows = append(g.Rows, AccessRow{Who: of.who, May: "finds the " + of.term.Meaning, Known: accessUnsaid})
		}
	}
	a.add(s, g, facts.ListKeys, facts.IntentServices.Term)
}

// tokenInTag is a tag in a field that is meant to hold a token.
var tokenInTag = regexp.MustCompile(`(?i)<[^>]*\bcontent\s*=\s*["']?([^"'\s>]+)`)

func (a *AccessOf) tokens(s *facts.Snapshot) {
	tokens, there := said(s, facts.IntentTokens.Term)
	g := AccessGroup{Name: "tokens", About: "prove to search engines whose the site is"}
	where := map[string][]string{}
	var order []string
	for _, of := range []struct {
		term *facts.Term
		says string
	}{{facts.MetaVerification.Term, "declared"}, {facts.HomeVerification, "served"}} {
		v, _ := s.Is(of.term)
		for _, token := range v.List() {
			if !slices.Contains(order, token) {
				order = append(order, token)
			}
			where[token] = append(where[token], of.says)
		}
	}
	for _, token := range order {
		may, bare := strings.Join(where[token], " and "), token
		if tag := tokenInTag.FindStringSubmatch(token); tag != nil {
			bare, may = tag[1], may+", within a whole tag"
		}
		g.Rows = append(g.Rows, AccessRow{Who: bare, May: may, Known: knownAs(there, slices.Contains(tokens, bare))})
	}
	a.add(s, g, facts.MetaVerification.Name, facts.IntentTokens.Term)
}

func (a *AccessOf) mailboxes(s *facts.Snapshot) {
	domains, there := said(s, facts.IntentMailDomains.Term)
	g := AccessGroup{Name: "mailboxes", About: "get what visitors write, and more"}
	own := func(mail string) string {
		domain := strings.ToLower(facts.MailDomain(mail))
		return knownAs(there, slices.ContainsFunc(domains, func(d string) bool { return strings.EqualFold(d, domain) }))
	}
	for _, of := range []struct {
		term *facts.Term
		may  string
	}{{facts.MailAdmin.Term, "gets sign-ups, and whoever reads it may reset passwords"}, {facts.MailSenderAddress.Term, "gets answers to automatic mail"}, {facts.FeedReply.Term, "gets what readers of the feed answer"}} {
		if v, known := s.Is(of.term); known && v.Text() != "" {
			g.Rows = append(g.Rows, AccessRow{Who: v.Text(), May: of.may, Known: own(v.Text())})
		}
	}
	items, _ := s.Items(facts.ListForms)
	for item := range items {
		g.Rows = append(g.Rows, AccessRow{Who: textOf(item, "recipient"), May: "gets what the form “" + textOf(item, "name") + "” sends", Known: own(textOf(item, "recipient"))})
	}
	g.Rows = once(g.Rows)
	a.add(s, g, facts.MailAdmin.Name, facts.IntentMailDomains.Term)
}

// once puts what the same one may do into one row.
func once(rows []AccessRow) (merged []AccessRow) {
	for _, row := range rows {
		if i := slices.IndexFunc(merged, func(m AccessRow) bool { return m.Who == row.Who }); i >= 0 {
			merged[i].May += "; " + row.May
			continue
		}
		merged = append(merged, row)
	}
	return merged
}

func (a *AccessOf) headHosts(s *facts.Snapshot) {
	services, there := said(s, facts.IntentServices.Term)
	g := AccessGroup{Name: "hosts in the head", About: "run code for every visitor, or are told of each"}
	hosts, _ := s.Is(facts.HeadHosts.Term)
	size, _ := s.Is(facts.HeadSize.Term)
	address, _ := s.Is(facts.IntentAddress.Term)
	for _, host := range hosts.List() {
		if facts.IsOwnHost(host, address.Text()) {
			continue
		}
		g.Rows = append(g.Rows, AccessRow{Who: host, May: "is named in " + size.String() + " of code in every page", Known: knownAs(there, facts.IsService(host, services))})
	}
	if hidden, known := s.Is(facts.HeadObscured.Term); known && hidden.Bool() {
		g.Rows = append(g.Rows, AccessRow{Who: "code that hides what it does", May: "runs in every page", Known: accessUnknown})
	}
	a.add(s, g, facts.HeadCode.Name, facts.IntentServices.Term)
}

func (a *AccessOf) files(s *facts.Snapshot) {
	g := AccessGroup{Name: "files", About: "on the server itself"}
	may := map[string][]string{}
	var order []string
	note := func(who, what string) {
		if who == "" || who == "nobody" {
			return
		}
		if may[who] == nil {
			order = append(order, who)
		}
		if !slices.Contains(may[who], what) {
			may[who] = append(may[who], what)
		}
	}
	for i := range s.Classes {
		class := &s.Classes[i]
		if class.Kind != "file" {
			continue
		}
		switch class.Role {
		case "config":
			note(class.WhoMay('r'), "reads the secrets")
			note(class.WhoMay('w'), "changes the configuration")
		case "code":
			note(class.WhoMay('w'), "changes what is run")
		case "override":
			note(class.WhoMay('w'), "tells the web server what to do")
		}
	}
	for _, who := range order {
		g.Rows = append(g.Rows, AccessRow{Who: who, May: strings.Join(may[who], ", "), Known: accessUnsaid})
	}
	if s.Classes == nil {
		g.Unseen = s.Why(facts.ListClasses)
	}
	a.add(s, g, "", nil)
}
