package demo

import (
	"cmp"
	"fmt"
	"maps"
	"os"
	"os/user"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"weltaxis/internal/clock"
	"weltaxis/internal/facts"
)

// A plot is what the file of a site says: how the site ought to be, and the story of how it came to be as it is.
type plot struct {
	System, Domain, Theme string
	Hosts                 []string
	SiteFile              string            `yaml:"site_file"`
	Again                 string            `yaml:"follow_ups"` // lines of the site file
	Told                  map[string]string // besides what every well-kept site is told
	Aloud                 map[string]string
	Accounts              []account
	Extensions            []extension
	Keys                  []outsider
	Pages                 []page
	Story                 []event
}

// An event is something that the building weeks left behind: what happened, which rules should notice, and what it
// did to the site.
type event struct {
	Tells      string
	NoticedBy  []string `yaml:"noticed_by"`
	Set        map[string]string
	Aloud      map[string]string
	Secret     string
	Accounts   []account
	Extensions []extension
	Keys       []outsider
	Files      map[string]string
	Modes      map[string]string
}

func readPlot(name string) *plot {
	p := &plot{}
	mustRead("sites/"+name+".yaml", p)
	return p
}

// wellKept is the site of a plot as it ought to be.
func (p *plot) wellKept(folder string) *installation {
	l := systems[p.System].lore()
	in := &installation{folder: folder, system: systems[p.System], hosts: p.Hosts, aloud: maps.Clone(p.Aloud), secret: "an invented key of the demo and not a secret at all",
		options: map[string]string{}, accounts: slices.Clone(p.Accounts), extensions: slices.Clone(p.Extensions), keys: slices.Clone(p.Keys), files: map[string]file{}, folders: map[string]os.FileMode{}, siteFile: p.SiteFile, again: p.Again}
	if strings.HasSuffix(folder, "-aligned") { // a twin has a history of its own
		in.siteFile = regexp.MustCompile(`(?m)^site: .*$`).ReplaceAllString(in.siteFile, "$0, in order")
	}
	names := map[string]string{"domain": p.Domain, "theme": p.Theme, "title": p.Told["site_title"], "joined": facts.Squashed(p.Told["site_title"]), "year": strconv.Itoa(Clock().UTC().Year()),
		"pictures": l.Addresses.Pictures, "picture": l.Addresses.Picture, "find": l.Addresses.Find}
	common := map[string]string{}
	mustRead("sites/well-kept.yaml", &common)
	maps.Copy(common, p.Told)
	for option, text := range common {
		in.options[option] = fillIn(text, names)
	}
	in.options["theme"] = p.Theme
	for _, one := range p.Pages {
		one.Body = fillIn(one.Body, names)
		if one.Kind == "" {
			one.Kind = "page"
		}
		if one.Status == "" {
			one.Status = "public"
		}
		in.pages = append(in.pages, one)
	}
	for folder, mode := range l.Folders {
		in.folders[fillIn(folder, names)] = modeOf(mode)
	}
	for name, text := range l.Files {
		in.files[fillIn(name, names)] = file{strings.ReplaceAll(text, "{style}", styleSheet), 0o644}
	}
	in.files[l.Public+"/.well-known/security.txt"] = file{fmt.Sprintf("Contact: mailto:post@%s\nExpires: %s\n", p.Domain, Clock().UTC().AddDate(0, 6, 0).Format("2006-01")+"-01T00:00:00Z"), 0o644}
	in.folders[l.Public+"/.well-known"] = 0o755
	for name, size := range l.Pictures {
		in.files[name] = file{picture(size[0], size[1]), 0o644}
	}
	for name, mode := range l.Modes {
		in.files[name] = file{in.files[name].text, modeOf(mode)}
	}
	in.options["jobs_ran"] = Clock().UTC().Format("2006-01-02 15:04")
	in.lists = in.known()
	return in
}

// Clock is the time in the demo's world, which stands still: all of its sites are of one moment.
var Clock = clock.At(time.Now())

// upTo is the site of a plot after so many events of its story.
func (p *plot) upTo(folder string, events int) *installation {
	in := p.wellKept(folder)
	for _, e := range p.Story[:events] {
		in.happen(e)
	}
	return in
}

// asItIs is the site of a plot after its story.
func (p *plot) asItIs(folder string) *installation {
	return p.upTo(folder, len(p.Story))
}

// The sites of the demo. A twin is the same site with everything in order.
func lanternLane() *installation {
	in := readPlot("lantern-lane").asItIs("lantern-lane")
	in.front = &front{story: true}
	return in
}

func lanternLaneAligned() *installation {
	in := readPlot("lantern-lane").wellKept("lantern-lane-aligned")
	in.front = &front{}
	return in
}

func saltmarsh() *installation         { return readPlot("saltmarsh").asItIs("saltmarsh") }
func hollin() *installation            { return readPlot("hollin").wellKept("hollin") }
func copperbeck() *installation        { return readPlot("copperbeck").asItIs("copperbeck") }
func copperbeckAligned() *installation { return readPlot("copperbeck").wellKept("copperbeck-aligned") }

// sites are all that the demo writes, in the order in which it serves them.
func sites() []*installation {
	return []*installation{lanternLane(), lanternLaneAligned(), saltmarsh(), hollin(), copperbeck(), copperbeckAligned()}
}

// nobody is where no server listens: what the site files say while the demo is not served.
const nobody = "127.0.0.1:1"

// siteFileText is the site file: what the site is meant to be, and where to look.
func (in *installation) siteFileText() string {
	var s strings.Builder
	fmt.Fprintf(&s, "# What this site is meant to be, and where Weltaxis may look.\n%s", in.siteFile)
	// The demo's files belong to whoever wrote them, so that is who its web server would run as.
	runsAs := in.webUser
	if u, err := user.Current(); err == nil && runsAs == "" && !strings.ContainsAny(u.Username, `\"`) {
		runsAs = u.Username
	}
	if runsAs != "" {
		fmt.Fprintf(&s, "  web_user: %q\n", runsAs)
	}
	fmt.Fprintf(&s, `sources:
  settings: {dialect: %s, root: ./site}
  live:
    own: true                     # I may look at paths nobody links to
    rate: 0                       # as fast as it answers
    connect:                      # where the demo's server listens, while it does
`, strings.ToLower(in.system.lore().Maker))
	for _, host := range in.hosts {
		fmt.Fprintf(&s, "      %q: %q\n      %q: %q\n", host+":443", nobody, host+":80", nobody)
	}
	if in.visitor != "" {
		fmt.Fprintf(&s, "    %s\n", in.visitor)
	}
	fmt.Fprintf(&s, "    trust: ../%s\n  files:    {root: ./site}\n", caName)
	if in.front != nil {
		fmt.Fprintf(&s, "  server:   {nginx: %s}    # or {apache: %s}\n", filepath.ToSlash(frontFile(frontNginx)), filepath.ToSlash(frontFile(frontApache)))
		fmt.Fprintf(&s, "  runtime:  {php: %s, %s}    # as the host's panel says\n", filepath.ToSlash(runtimeFolder), cmp.Or(in.front.from, map[bool]string{false: `version: "8.4", from: Debian 13`, true: `version: "8.1", from: makers`}[in.front.story]))
	}
	if in.lists != nil {
		fmt.Fprintf(&s, "upkeep: {versions: %[1]s/versions.yaml, advisories: %[1]s/advisories, checksums: %[1]s/checksums}\n", upkeepFolder)
	}
	s.WriteString(announceLine(nobody) + "\n" + in.again)
	return s.String()
}
