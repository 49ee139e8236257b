package facts

import (
	"cmp"
	"encoding/json"
	"strings"
)

// ListDoors is the list of kinds of address, and what a stranger gets at each.
const ListDoors = "live.doors"

// The kinds of address that are doors.
const (
	HomeDoor        = "home"
	InnerDoor       = "inner page"
	AssetDoor       = "asset"
	PictureDoor     = "picture"
	FeedDoor        = "feed"
	SitemapDoor     = "sitemap"
	RobotsDoor      = "robots"
	SignInDoor      = "sign-in"
	MissingDoor     = "missing"
	ChallengeDoor   = "challenge"
	UnencryptedDoor = "unencrypted"
	OtherNameDoor   = "other name"
	SpeltDoor       = "spelling" // another way to write the address of one of those before
)

// DoorKinds are all of them, in the order in which they are tried.
var DoorKinds = []string{HomeDoor, InnerDoor, AssetDoor, PictureDoor, FeedDoor, SitemapDoor, RobotsDoor, SignInDoor, MissingDoor, ChallengeDoor, UnencryptedDoor, OtherNameDoor, SpeltDoor}

// What a door shows.
const (
	ShowsSite      = "site"      // what lies there
	ShowsNotice    = "notice"    // that the site is down, or not there yet
	ShowsLock      = "lock"      // name and password are asked for
	ShowsRefusal   = "refusal"   // nobody is let in
	ShowsNothing   = "nothing"   // it is not found, or gone
	ShowsFailure   = "failure"   // something fails
	ShowsElsewhere = "elsewhere" // it leads to another site
)

var doorWords = []string{ShowsSite, ShowsNotice, ShowsLock, ShowsRefusal, ShowsNothing, ShowsFailure, ShowsElsewhere}

// A Door is one address of a kind, as a stranger gets it who has no cookie and no password.
type Door struct {
	Kind    string `json:"kind"`
	Address string `json:"address"`
	Path    string `json:"path"`   // with the query
	Status  int    `json:"status"` // of the last answer on the site itself
	First   int    `json:"first"`  // of the first
	Shows   string `json:"shows"`
	Leads   string `json:"leads"`  // the address that it redirects to, "" for none
	Strays  bool   `json:"strays"` // another path than was asked for, the slash at its end apart
	Retry   string `json:"retry"`  // Retry-After (RFC 9110 §10.2.3)
	Hit     bool   `json:"hit"`    // a cache answered
	Fresh   int64  `json:"fresh"`  // seconds for which a shared cache may keep it, as it says itself; -1 when it does not
	Around  string `json:"around"` // what is shown around the cache; "" when nobody looked, or found a way
	Staff   string `json:"staff"`  // what somebody with a session, or the password, is shown; "" when nobody looked
	Open    bool   `json:"open"`   // the connection is not encrypted at one of the steps where a password is asked for

	lacks lacking
}

var doorTable = tableOf(
	oneOf("kind", DoorKinds, "the kind of address", func(d *Door) string { return d.Kind }),
	text("address", "the address", func(d *Door) string { return d.Address }).follows("path"),
	text("path", "path and query", func(d *Door) string { return d.Path }),
	text("name", "what it is, in words", func(d *Door) string { return d.Name() }).keyed("path").follows("path"),
	number("status", "HTTP status in the end", func(d *Door) int { return d.Status }).follows("shows", "settings.maintenance.on", "settings.lock.on"),
	number("first", "HTTP status of the first answer", func(d *Door) int { return d.First }).follows("status", "settings.maintenance.on", "settings.lock.on"),
	oneOf("shows", doorWords, "what a stranger gets: the site, a notice, a lock (name and password are asked for), a refusal, nothing (not found, or gone), a failure, or it leads elsewhere", func(d *Door) string { return d.Shows }).follows("settings.maintenance.on", "settings.lock.on"),
	text("leads", "the address that it redirects to; nothing when it does not", func(d *Door) string { return d.Leads }).follows("status", "settings.site.address"),
	yes("strays", "it redirects to another path", func(d *Door) bool { return d.Strays }).follows("leads"),
	text("retry", "Retry-After", func(d *Door) string { return d.Retry }).follows("shows"),
	yes("hit", "a cache answered", func(d *Door) bool { return d.Hit }).varies(),
	yes("kept", "a cache answered, or may keep the answer for more than a few minutes as it says itself", func(d *Door) bool { return d.Kept() }).keyed("hit").varies(),
	column[Door]{Field: Field{Name: "around", Type: Words, Words: doorWords, Meaning: "what is shown around the cache"}, get: func(d *Door) (Value, bool) {
		return TextOf(Words, d.Around), d.Around != ""
	}, why: func(*Door) string { return "no way around the cache was found, or looked for" }}.varies(),
	column[Door]{Field: Field{Name: "staff", Type: Words, Words: doorWords, Meaning: "what somebody is shown who is signed in, or has the password of the lock"}, get: func(d *Door) (Value, bool) {
		return TextOf(Words, d.Staff), d.Staff != ""
	}, why: func(*Door) string {
		return "nobody looked as somebody who is signed in; say live: {session: \"${NAME}\"} in the site file, or {user: ...} for a lock"
	}}.follows("shows"),
	yes("open", "name and password are asked for without encryption", func(d *Door) bool { return d.Open }).follows("shows"),
)

// fewMinutes is for how many seconds a cache may keep a notice without harm.
const fewMinutes = 300

// Kept tells whether a cache gave it, or may keep it for longer than a few minutes.
func (d *Door) Kept() bool { return d.Hit || d.Fresh > fewMinutes }

// AllSpelt is the path of the door that stands for all other spellings, where none was open.
const AllSpelt = "…"

// Subject is the path, for an inner page the address, as what tells of links has it; what is made up has a name.
func (d *Door) Subject() string {
	switch d.Kind {
	case HomeDoor:
		return "/"
	case InnerDoor:
		return d.Address
	case MissingDoor, ChallengeDoor, UnencryptedDoor, OtherNameDoor, SpeltDoor:
		return d.Name()
	}
	return cmp.Or(d.Path, d.Kind)
}

// Identity is the kind and the path; those that are made up have none.
func (d *Door) Identity() string {
	if d.Kind == MissingDoor || d.Kind == ChallengeDoor {
		return d.Kind
	}
	return d.Kind + " " + d.Path
}

// Name says what the door is, in words.
func (d *Door) Name() string {
	switch d.Kind {
	case HomeDoor:
		return "the home page"
	case RobotsDoor:
		return "robots.txt"
	case MissingDoor:
		return "an address that cannot exist"
	case ChallengeDoor:
		return "what a certificate is renewed by (/.well-known/acme-challenge/)"
	case SignInDoor:
		return "the sign-in page " + d.Path
	case UnencryptedDoor, OtherNameDoor:
		return strings.TrimSuffix(d.Address, "/")
	case SpeltDoor:
		if d.Path == AllSpelt {
			return "these addresses, written otherwise"
		}
		return "the address that is written " + d.Path
	}
	return "the " + d.Kind + " " + d.Path
}

// Origin is the address.
func (d *Door) Origin() Origin { return Origin{URL: d.Address} }

// Field implements Item.
func (d *Door) Field(name string) (Value, bool) { return doorTable.field(d, d.lacks, name) }

// Why implements Item.
func (d *Door) Why(field string) Reason {
	return Reason{doorTable.reason(d, d.lacks, field), d.Origin()}
}

// OriginOf implements Item.
func (d *Door) OriginOf(string) Origin { return d.Origin() }

// UnmarshalJSON notes what the snapshot does not hold of it.
func (d *Door) UnmarshalJSON(raw []byte) (err error) {
	type plain Door
	if err := json.Unmarshal(raw, (*plain)(d)); err != nil {
		return err
	}
	d.lacks, err = doorTable.lacks(raw)
	return err
}

// Unshown is what stood in the place of the site when it was looked at from outside, one of what a door shows; ShowsFailure too where no home page could be read. It is "" where the site
// was seen, and where nobody asked for it.
func (s *Snapshot) Unshown() string {
	if !s.Asked(Live) {
		return ""
	}
	if shows, known := s.Is(LiveHomeShows.Term); known && shows.Text() != ShowsSite {
		return shows.Text()
	}
	if s.HomePage() == nil {
		return ShowsFailure
	}
	return ""
}
