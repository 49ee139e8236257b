package runtime

import (
	"cmp"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"weltaxis/internal/facts"
	"weltaxis/internal/ordinary"
)

// A branch is mended until a day, by whoever it comes from.
type mended struct {
	branch, by string // by: "" for its makers
	until      string // the day, as in RFC 3339
}

// mendedUntil is as of 26 November 2026: the makers' announced ends of security support, and the ends of the distributions' own
// support for the release that carries a branch, long-term support by volunteers included, paid one not.
var mendedUntil = []mended{
	{"7.4", "", "2022-11-28"}, {"8.0", "", "2023-11-26"}, {"8.1", "", "2025-12-31"}, {"8.2", "", "2026-12-31"}, {"8.3", "", "2027-12-31"}, {"8.4", "", "2028-12-31"}, {"8.5", "", "2029-12-31"},
	{"7.3", "Debian 10", "2024-06-30"}, {"7.4", "Debian 11", "2026-08-31"}, {"8.2", "Debian 12", "2028-06-30"}, {"8.4", "Debian 13", "2030-06-30"},
	{"7.4", "Ubuntu 20.04", "2025-05-31"}, {"8.1", "Ubuntu 22.04", "2027-04-30"}, {"8.3", "Ubuntu 24.04", "2029-04-30"},
}

// whose is the distribution whose package a version is, "" for the makers' own or somebody's who follows them.
func whose(version string) string {
	switch {
	case strings.Contains(version, "+deb10u"):
		return "Debian 10"
	case regexp.MustCompile(`(\+|~)deb11u\d+$`).MatchString(version):
		return "Debian 11"
	case regexp.MustCompile(`(\+|~)deb12u\d+$`).MatchString(version):
		return "Debian 12"
	case regexp.MustCompile(`(\+|~)deb13u\d+$`).MatchString(version):
		return "Debian 13"
	}
	if found := regexp.MustCompile(`ubuntu(\d+)(\.\d+)*$`).FindString(version); found != "" && !strings.Contains(version, "~ubuntu") {
		branch := regexp.MustCompile(`^\d+\.\d+`).FindString(version)
		for _, m := range mendedUntil {
			if m.branch == branch && strings.HasPrefix(m.by, "Ubuntu") {
				return m.by
			}
		}
	}
	return ""
}

// packages are how the package of a branch is called that runs programs so.
var packages = map[bool]string{false: "phpBRANCH-fpm", true: "libapache2-mod-phpBRANCH"}

var versionOf = regexp.MustCompile(`(?m)^Version: (?:\d+:)?(\S+)`)

// version sees which version it is, whose, and until when that is mended.
func (s *Source) version(seen *facts.Seen) {
	branch, full := s.Config.branch(), ""
	at := facts.Origin{Path: s.Config.Folder}
	if s.Version != "" {
		branch, at = s.Version, s.SaidAt
	}
	lack := func(because string, names ...string) {
		seen.AddGap(facts.Gap{Source: facts.Runtime, What: "the runtime's version", Kind: facts.Unmapped, Because: because, Names: names})
	}
	if branch == "" {
		lack("the name of its folder does not say which it is", facts.RuntimeVersion.Name, facts.RuntimeBranch.Name, facts.RuntimeMended.Name)
		return
	}
	if s.From != "" {
		seen.Add(facts.RuntimeVersion.Reading(branch, at))
		s.supported(seen, branch, s.by(), s.SaidAt)
		return
	}
	if strings.HasPrefix(s.Config.Folder, "/etc/php/") {
		full = packaged(strings.ReplaceAll(packages[s.Places[0].Module], "BRANCH", branch), "/var/lib/dpkg/status")
	}
	if full == "" {
		seen.Add(facts.RuntimeVersion.Reading(branch, at))
		lack("no package says whose version it is", facts.RuntimeBranch.Name, facts.RuntimeMended.Name)
		return
	}
	at = facts.Origin{Path: "/var/lib/dpkg/status"}
	seen.Add(facts.RuntimeVersion.Reading(regexp.MustCompile(`^[0-9.]+`).FindString(full), at))
	at.Because = "package " + full
	s.supported(seen, branch, whose(full), at)
}

// makers is what a site file says of a version that is its makers' own.
const makers = "makers"

// Sources are whose versions may be, as a site file says it: the distributions of which the table knows, and makers.
func Sources() []string {
	names := []string{makers}
	for _, m := range mendedUntil {
		if m.by != "" && !slices.Contains(names, m.by) {
			names = append(names, m.by)
		}
	}
	return names
}

// by is whose the version is that the site file says, as the table names it.
func (s *Source) by() string {
	if s.From == makers {
		return ""
	}
	return s.From
}

// supported says who mends a version, and until when. Of a branch that is older than all that the table has of its makers nobody does.
func (s *Source) supported(seen *facts.Seen, branch, by string, at facts.Origin) {
	seen.Add(facts.RuntimeBranch.Reading(cmp.Or(by, "its makers'"), at))
	until := mendedTo(branch, by)
	if until == 0 {
		seen.AddGap(facts.Gap{Source: facts.Runtime, What: "until when the runtime is mended", Kind: facts.Unmapped, Because: strings.TrimSpace("the table of ends does not have " + branch + " of " + cmp.Or(by, "its makers")), Names: []string{facts.RuntimeMended.Name}})
		return
	}
	seen.Add(facts.RuntimeMended.Reading(until, at))
}

// mendedTo is until when a branch is mended by whom it is from; 0 when the table does not say. A branch that is older than the oldest of
// the table was mended until that was at most.
func mendedTo(branch, by string) int64 {
	oldest, last := "", ""
	for _, m := range mendedUntil {
		if m.by != by {
			continue
		}
		if m.branch == branch {
			return dayOf(m.until)
		}
		if oldest == "" || facts.CompareVersions(m.branch, oldest) < 0 {
			oldest, last = m.branch, m.until
		}
	}
	if by == "" && oldest != "" && facts.CompareVersions(branch, oldest) < 0 {
		return dayOf(last)
	}
	return 0
}

func dayOf(text string) int64 {
	day, err := time.Parse(time.DateOnly, text)
	if err != nil {
		return 0
	}
	return day.Unix()
}

// packaged is the version of a package that is installed, "" when it is not.
func packaged(name, status string) string {
	data, err := ordinary.Read(status, 64<<20)
	if err != nil {
		return ""
	}
	for _, entry := range strings.Split(string(data), "\n\n") {
		if strings.HasPrefix(entry, "Package: "+name+"\n") && strings.Contains(entry, "\nStatus: install ok installed\n") {
			if found := versionOf.FindStringSubmatch(entry); found != nil {
				return found[1]
			}
		}
	}
	return ""
}

// builtInto are the modules that every build has.
var builtInto = []string{"Core", "date", "hash", "json", "pcre", "random", "Reflection", "SPL", "standard"}

// debianBuilt are those that Debian's packages have in themselves beside these.
var debianBuilt = []string{"filter", "libxml", "openssl", "pcntl", "session", "sodium", "zlib"}

// modules are those that the files load. Why says why they cannot be told.
func (c *Config) modules() (list []string, at facts.Origin, why string) {
	list = slices.Clone(builtInto)
	if strings.HasPrefix(c.Folder, "/etc/php/") || c.branch() != "" {
		list = append(list, debianBuilt...)
	}
	folder := ""
	for _, f := range c.files {
		if f.broken > 0 && at.File == "" {
			at = facts.Origin{File: f.path, Line: f.broken}
		}
		for _, e := range f.entries {
			if kind, _ := special(e.section); kind != "" || e.bare {
				continue
			}
			switch e.name {
			case "extension_dir":
				folder = e.value
			case "extension", "zend_extension":
				if e.unknown != "" {
					return nil, at, e.unknown
				}
				list = append(list, moduleName(e.value))
			}
		}
	}
	for _, p := range c.poolList {
		for _, line := range p.lines {
			if line.name == "extension" {
				list = append(list, moduleName(line.value))
			}
		}
	}
	if folder = cmp.Or(folder, c.extensionFolder()); folder != "" {
		list = slices.DeleteFunc(list, func(name string) bool {
			return !slices.Contains(builtInto, name) && !slices.Contains(debianBuilt, name) && !exists(filepath.Join(folder, fileOf(name)))
		})
	}
	slices.Sort(list)
	if at.File == "" {
		at = facts.Origin{File: c.first()}
	}
	return slices.Compact(list), at, ""
}

// interfaces are the names of the module interface by branch, of which Debian's folder of modules is named.
var interfaces = map[string]string{"7.4": "20190902", "8.0": "20200930", "8.1": "20210902", "8.2": "20220829", "8.3": "20230831", "8.4": "20240924"}

func (c *Config) extensionFolder() string {
	if number := interfaces[c.branch()]; number != "" && exists("/usr/lib/php/"+number) {
		return "/usr/lib/php/" + number
	}
	return ""
}

// moduleName is what a module calls itself, by the name or file that it is loaded by.
func moduleName(value string) string {
	name := strings.TrimSuffix(filepath.Base(strings.TrimPrefix(value, "php_")), ".so")
	if name == "opcache" {
		return "Zend OPcache"
	}
	return name
}

func fileOf(module string) string {
	if module == "Zend OPcache" {
		return "opcache.so"
	}
	return module + ".so"
}
