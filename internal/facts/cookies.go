package facts

import "encoding/json"

// A Cookie is one that the site sets for a visitor (RFC 6265bis). What it holds is not kept.
type Cookie struct {
	Name      string `json:"name"`
	From      string `json:"from"` // the address that set it
	Encrypted bool   `json:"encrypted"`
	Secure    bool   `json:"secure"`
	HTTPOnly  bool   `json:"http_only"`
	SameSite  string `json:"same_site"` // strict, lax, none, or nothing
	Life      int64  `json:"life"`      // in seconds; 0 until the browser closes
	Refused   string `json:"refused"`   // why browsers do not keep it, "" when they do
	Session   bool   `json:"session"`   // it seems to carry somebody's session

	lacks lacking
}

var cookieTable = tableOf(
	text("name", "its name", func(c *Cookie) string { return c.Name }),
	text("from", "the address that set it", func(c *Cookie) string { return c.From }).varies(),
	yes("encrypted", "it was set over an encrypted connection", func(c *Cookie) bool { return c.Encrypted }),
	yes("secure", "it is only sent over one", func(c *Cookie) bool { return c.Secure }),
	yes("http_only", "scripts of a page do not see it", func(c *Cookie) bool { return c.HTTPOnly }),
	text("same_site", "whether other sites' requests carry it: strict, lax, none; nothing when it does not say", func(c *Cookie) string { return c.SameSite }),
	text("refused", "why browsers do not keep it at all; nothing when they do", func(c *Cookie) string { return c.Refused }).sinceFormat(8).follows("secure", "same_site"),
	column[Cookie]{Field: Field{Name: "life", Type: Duration, Meaning: "how long it lives; 0 until the browser closes"}, get: func(c *Cookie) (Value, bool) { return NumberOf(Duration, c.Life), true }},
	yes("session", "it carries somebody's session: it is the runtime's, or its name and what it holds say so", func(c *Cookie) bool { return c.Session }),
)

// Subject is the cookie's name.
func (c *Cookie) Subject() string { return c.Name }

// Identity is the cookie's name.
func (c *Cookie) Identity() string { return "cookie " + c.Name }

// Origin is the address that set it.
func (c *Cookie) Origin() Origin { return Origin{URL: c.From, Header: "Set-Cookie: " + c.Name} }

// Field implements Item.
func (c *Cookie) Field(name string) (Value, bool) { return cookieTable.field(c, c.lacks, name) }

// Why implements Item.
func (c *Cookie) Why(field string) Reason {
	return Reason{cookieTable.reason(c, c.lacks, field), c.Origin()}
}

// OriginOf implements Item.
func (c *Cookie) OriginOf(string) Origin { return c.Origin() }

// UnmarshalJSON notes what the snapshot does not hold of it.
func (c *Cookie) UnmarshalJSON(raw []byte) (err error) {
	type plain Cookie
	if err := json.Unmarshal(raw, (*plain)(c)); err != nil {
		return err
	}
	c.lacks, err = cookieTable.lacks(raw)
	return err
}
