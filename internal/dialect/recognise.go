package dialect

import (
	"cmp"
	"fmt"
	"math"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"weltaxis/internal/facts"
	"weltaxis/internal/strict"
)

// A Sign is something by which an installation is recognised, and how sure it is by this alone.
type Sign struct {
	File     string `yaml:"file"`     // a path below the root that is there
	Contains string `yaml:"contains"` // a text in that file
	Table    string `yaml:"table"`    // a table of the database, or the end of its name after a prefix
	Page     string `yaml:"page"`     // a text in the front page
	Sure     string `yaml:"sure"`     // certain, likely (when it is left out) or slight
}

var sureness = map[string]float64{"certain": 0.98, "likely": 0.7, "slight": 0.3}

// outwardPlaces are where signs stand that strangers see.
var outwardPlaces = []string{"tag", "header", "cookie", "asset", "markup", "feed", "file", "error page"}

// Firewall is what a sign gives by which the system's own firewall shows itself in answers that programs make.
const Firewall = "firewall"

func (d *Dialect) checkOutward() error {
	for i := range d.Signs {
		sign := &d.Signs[i]
		sign.Gives, sign.Sure = cmp.Or(sign.Gives, "system"), cmp.Or(sign.Sure, "likely")
		if sign.Gives == "system" {
			sign.Name = cmp.Or(sign.Name, d.Title)
		}
		expression, err := regexp.Compile(sign.Match)
		switch {
		case !slices.Contains(outwardPlaces, sign.In):
			return d.errorf(strict.Pos{}, "signs: in is one of %s, not %q", strings.Join(outwardPlaces, ", "), sign.In)
		case err != nil || sign.Match == "" || len(sign.Match) > maxExpression:
			return d.errorf(strict.Pos{}, "signs: match is a regular expression (RE2) of at most %d letters, and this is none: %q", maxExpression, facts.Shorten(sign.Match, 80))
		case !slices.Contains([]string{"system", "extension", "theme", Firewall}, sign.Gives):
			return d.errorf(strict.Pos{}, "signs: gives is system, extension, theme or firewall, not %q", sign.Gives)
		case sign.Gives == Firewall && !slices.Contains([]string{"header", "cookie", "markup"}, sign.In):
			return d.errorf(strict.Pos{}, "signs: a firewall shows itself in a header, a cookie or the markup of an answer, not in %q", sign.In)
		case sureness[sign.Sure] == 0:
			return d.errorf(strict.Pos{}, "signs: sure is certain, likely or slight, not %q", sign.Sure)
		}
		sign.Expression = expression
	}
	for _, path := range d.Installers {
		if !strings.HasPrefix(path, "/") {
			return d.errorf(strict.Pos{}, "installers: %q is no path of an address; it begins with /", path)
		}
	}
	return nil
}

// maxExpression is how long the expression of a sign may be.
const maxExpression = 500

func (d *Dialect) checkSigns() error {
	if err := d.checkOutward(); err != nil {
		return err
	}
	for _, sign := range d.Recognise {
		switch {
		case sign.File == "" && sign.Table == "" && sign.Page == "":
			return d.errorf(strict.Pos{}, "recognise: a sign is a file, a table or a text on a page")
		case sign.File != "" && !filepath.IsLocal(sign.File):
			return d.errorf(strict.Pos{}, "recognise: %q leaves the root", sign.File)
		case sign.Sure != "" && sureness[sign.Sure] == 0:
			return d.errorf(strict.Pos{}, "recognise: sure is certain, likely or slight")
		}
	}
	return nil
}

// Traces is what there is to recognise a system by. Each may be nil where nobody could look.
type Traces struct {
	Holds  func(file, text string) bool // there is a file below the root, with that text in it
	Tables []string
	Page   string // the front page as it is served
}

// Recognised tells how sure it is, from 0 to 1, that the traces are this system's, and by which signs.
func (d *Dialect) Recognised(traces Traces) (sure float64, by []string) {
	doubt := 1.0
	for _, sign := range d.Recognise {
		says := ""
		switch {
		case sign.File != "" && traces.Holds != nil && traces.Holds(sign.File, sign.Contains):
			says = "there is " + sign.File
			if sign.Contains != "" {
				says = fmt.Sprintf("%s holds %q", sign.File, sign.Contains)
			}
		case sign.Table != "" && slices.ContainsFunc(traces.Tables, func(t string) bool { return t == sign.Table || strings.HasSuffix(t, "_"+sign.Table) }):
			says = "there is a table " + sign.Table
		case sign.Page != "" && strings.Contains(traces.Page, sign.Page):
			says = fmt.Sprintf("the front page holds %q", sign.Page)
		default:
			continue
		}
		doubt *= 1 - sureness[cmp.Or(sign.Sure, "likely")]
		by = append(by, says)
	}
	return math.Round((1-doubt)*100) / 100, by
}

// CookieName is the name of the cookie by which the content system knows who is signed in, where its signs name one; "" else.
func (d *Dialect) CookieName() string {
	for _, s := range d.Signs {
		if name := strings.TrimSuffix(strings.TrimPrefix(s.Match, "^"), "$"); s.In == "cookie" && "^"+name+"$" == s.Match && regexp.QuoteMeta(name) == name {
			return name
		}
	}
	return ""
}
