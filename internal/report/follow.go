package report

import (
	"path"
	"strconv"
	"strings"

	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
)

// A Way is an address followed through the web server's configuration, in words.
type Way struct {
	Address string   `json:"address"`
	Stages  []Stage  `json:"way"`
	Fields  []Sides  `json:"answer"`
	Untold  []Untold `json:"untold"` // what cannot be told of it, by the reason
	Gaps    []string `json:"unread"` // what of the configuration could not be read
	Unseen  string   `json:"unseen"` // why no visitor's answer stands beside it; "" when one does
}

// An Untold is why some fields cannot be told.
type Untold struct {
	Fields  []string `json:"fields"`
	Because string   `json:"because"`
	Place   string   `json:"place"`
}

// A Stage is one step of the way, and the line that decides it.
type Stage struct {
	Says  string `json:"says"`
	Place string `json:"place"`
}

// Sides are one field of an answer: what the configuration makes of it, where, and what a visitor gets.
type Sides struct {
	Field      string `json:"field"`
	Configured string `json:"configured"`
	Told       bool   `json:"told"` // false when it cannot be told; then Configured says why
	Place      string `json:"place"`
	Because    string `json:"because,omitempty"` // why it is absent
	Served     string `json:"served"`
	Differs    bool   `json:"differs"` // both are known, and are not the same
	From       string `json:"from"`    // who says what a visitor gets: the server's line, the program, or not known; "" where nothing comes
}

// fieldHeaders are the headers that show a field to a visitor.
var fieldHeaders = map[string]string{"location": "Location", "vary": "Vary", "cache_control": "Cache-Control", "content_type": "Content-Type", "hsts": "Strict-Transport-Security", "nosniff": "X-Content-Type-Options",
	"framing": "X-Frame-Options", "referrer": "Referrer-Policy", "content_policy": "Content-Security-Policy", "permissions_policy": "Permissions-Policy", "server_header": "Server"}

// quiet are the fields that are left out where they say no more than that there is nothing.
var quietFields = []string{"runs_code", "leaks_source", "asks_login", "denied", "listed", "zone", "valid_seconds", "bypass_on", "stores_private", "rate_limited", "max_age", "etag", "place", "server"}

// Follow puts an address that was followed into words.
func Follow(f *audit.Followed) *Way {
	w := &Way{Address: f.Address, Stages: []Stage{}, Fields: []Sides{}, Untold: []Untold{}, Gaps: []string{}, Unseen: f.Unseen}
	for _, g := range f.Gaps {
		w.Gaps = append(w.Gaps, g.What+": "+g.Because)
	}
	for _, stage := range f.Way {
		w.Stages = append(w.Stages, Stage{stage.Says, place(stage.Origin)})
	}
	if len(f.Answer.Cells) == 0 { // nothing was read that could say anything
		return w
	}
	for _, field := range facts.Lists[facts.ListAnswers][3:] {
		side, worth := sides(f, field.Name)
		if worth && (side.Told || side.Served != "") {
			w.Fields = append(w.Fields, side)
		}
		if _, worked := f.Answer.Cells[field.Name]; !worked && !side.Told && side.Served == "" {
			continue // nobody asked for it
		}
		if worth && !side.Told {
			w.untold(side, f.Answer.Why(field.Name))
		}
	}
	return w
}

// untold adds a field to those that cannot be told for one reason.
func (w *Way) untold(s Sides, why facts.Reason) {
	for i := range w.Untold {
		if u := &w.Untold[i]; u.Because == why.Because && u.Place == place(why.Origin) {
			u.Fields = append(u.Fields, s.Field)
			return
		}
	}
	w.Untold = append(w.Untold, Untold{[]string{s.Field}, why.Because, place(why.Origin)})
}

// sides is one field from both sides; worth is false for one of which neither says anything.
func sides(f *audit.Followed, field string) (s Sides, worth bool) {
	s.Field = field
	v, known := f.Answer.Field(field)
	if known {
		o := f.Answer.OriginOf(field)
		s.Told, s.Place = true, short(o)
		if s.Configured = v.String(); o.Because != "" && s.Configured != "" {
			s.Configured += " (" + o.Because + ")"
		} else if o.Because != "" {
			s.Because = o.Because
		}
		if s.Configured == "" {
			s.Configured = "(nothing)"
		}
	} else {
		s.Configured = "(cannot be told)"
	}
	seen := false
	if f.Live != nil {
		switch header := fieldHeaders[field]; {
		case field == "status":
			s.Served, seen = strconv.Itoa(f.Live.Status), true
		case field == "compressed":
			s.Served, seen = facts.BoolOf(f.Live.Header.Get("Content-Encoding") != "").String(), true
		case field == "etag":
			s.Served, seen = facts.BoolOf(f.Live.Header.Get("ETag") != "").String(), true
		case header != "":
			s.Served, seen = strings.Join(f.Live.Header.Values(header), ", "), true
			if s.Served == "" {
				s.Served = "(nothing)"
			}
		}
	}
	s.From = whoSays(f, s, known, v.String())
	s.Differs = seen && known && !strings.EqualFold(s.Served, v.String()) && !(s.Served == "(nothing)" && v.String() == "")
	empty := known && (v.String() == "" || v.String() == "no" || v.String() == "-1")
	if s.Because != "" && empty {
		s.Configured += ": " + s.Because
	}
	if empty && (s.Because == "" || f.Answer.OriginOf(field).Default != "") && (s.Served == "" || s.Served == "(nothing)" || s.Served == "no") {
		return s, false
	}
	return s, known || seen || !isQuiet(field)
}

// Who says what a visitor gets.
const (
	fromLine    = "the server's line"
	fromProgram = "the program"
	fromUnknown = "not known"
)

// whoSays tells where a header of an answer comes from: a line of the server's configuration that says the same; or else, where the server
// hands the address to a program and no line of its says it, that program: the content system. What is neither is not known: something
// may stand between.
func whoSays(f *audit.Followed, s Sides, known bool, configured string) string {
	handler, _ := f.Answer.Field("handler")
	switch {
	case fieldHeaders[s.Field] == "" || s.Served == "" || s.Served == "(nothing)":
		return ""
	case known && strings.EqualFold(s.Served, configured):
		return fromLine
	case !known && (handler.Text() == "program" || handler.Text() == "proxy"):
		return fromProgram
	}
	return fromUnknown
}

func isQuiet(field string) bool {
	for _, name := range quietFields {
		if name == field {
			return true
		}
	}
	return false
}

// short is a place in a table: the file's name and the line.
func short(o facts.Origin) string {
	if o.Line > 0 {
		return path.Base(o.File) + ":" + strconv.Itoa(o.Line)
	}
	o.Because = ""
	return place(o)
}

// place is where something is decided, as a person reads it.
func place(o facts.Origin) string {
	if o.Default != "" && o.Because == "" {
		return "the default of " + o.Default
	}
	return o.String()
}
