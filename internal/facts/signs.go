package facts

import (
	"cmp"
	"encoding/json"
)

// ListSigns is the list of what tells a stranger what a site runs on.
const ListSigns = "live.signs"

// A Telling is one sign from which a stranger can tell something of what a site runs on.
type Telling struct {
	Gives   string `json:"gives"`   // system, extension, theme, runtime or server
	Name    string `json:"name"`    // of it; "" when the sign only gives a version away
	Version string `json:"version"` // "" when the sign gives none away
	Sure    string `json:"sure"`    // certain, likely or slight
	Place   string `json:"place"`   // where such a sign stands: tag, header, cookie, asset, markup, feed, file, error page
	Says    string `json:"says"`    // as it is written, shortened
	URL     string `json:"url"`     // where it was seen first

	lacks lacking
}

var tellingTable = tableOf(
	text("gives", "what it gives away: system, extension, theme, runtime or server", func(t *Telling) string { return t.Gives }),
	text("name", "the name that it gives away", func(t *Telling) string { return t.Name }),
	text("version", "the version that it gives away; nothing when it gives none", func(t *Telling) string { return t.Version }),
	text("sure", "certain, likely or slight", func(t *Telling) string { return t.Sure }),
	text("place", "where such a sign stands: tag, header, cookie, asset, markup, feed, file or error page", func(t *Telling) string { return t.Place }),
	text("says", "the sign as it is written", func(t *Telling) string { return t.Says }),
)

// Subject is what it gives away, and by what.
func (t *Telling) Subject() string {
	return t.Gives + " " + cmp.Or(t.Name, t.Version) + " by " + t.Place
}

// Identity is the same, without what the sign says.
func (t *Telling) Identity() string { return "sign " + t.Subject() }

// Origin is where it was seen.
func (t *Telling) Origin() Origin { return Origin{URL: t.URL} }

// Field implements Item.
func (t *Telling) Field(name string) (Value, bool) { return tellingTable.field(t, t.lacks, name) }

// Why implements Item.
func (t *Telling) Why(field string) Reason {
	return Reason{tellingTable.reason(t, t.lacks, field), t.Origin()}
}

// OriginOf implements Item.
func (t *Telling) OriginOf(string) Origin { return t.Origin() }

// UnmarshalJSON notes what the snapshot does not hold of it.
func (t *Telling) UnmarshalJSON(raw []byte) (err error) {
	type plain Telling
	if err := json.Unmarshal(raw, (*plain)(t)); err != nil {
		return err
	}
	t.lacks, err = tellingTable.lacks(raw)
	return err
}
