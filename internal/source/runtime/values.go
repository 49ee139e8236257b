package runtime

import (
	"cmp"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"weltaxis/internal/facts"
	"weltaxis/internal/secrets"
)

// A Place is a folder of the site, and what the web server makes of a program in it.
type Place struct {
	Address string   // of the folder, ending in a slash
	Script  string   // the file that is run
	Module  bool     // by PHP in Apache; else by FastCGI
	Listen  []string // where FastCGI is asked: host and port, or the path of a socket; several where they take turns
	Root    string   // the root that the server tells, "" for none
	Host    string   // the name of the host that it tells
	Told    []Told   // what it hands to the runtime, in the order in which it counts
	Unsure  *facts.Reason
}

// Told is one value that the web server hands to the runtime: php_value, php_flag, php_admin_value or php_admin_flag with a name, or
// PHP_VALUE or PHP_ADMIN_VALUE, which hold lines of the runtime's own syntax.
type Told struct {
	Kind, Name, Value string
	Unknown           string // why the value cannot be told
	Override          bool   // it stands in an override file
	Origin            facts.Origin
}

// said is a value, and where it is said.
type said struct {
	value   string
	unknown *facts.Reason
	at      facts.Origin
	where   where
}

// where is the kind of place that a value is said in.
type where uint8

const (
	builtIn where = iota
	mainFile
	poolValue
	poolAdmin
	serverValue
	serverAdmin
	perHost
	perPath
	perFolder
)

// A level is what a directive is at one point of the way.
type level struct {
	said
	may    int
	sealed *facts.Reason // why it cannot be told whether a folder's own file may change it
	beaten []said        // what was said before, the last first
}

// values are all directives at one point of the way.
type values struct {
	of       map[string]*level
	troubles *troubles
	// warned is where the runtime warned of something while a request began: with that its answer has begun, and it takes no more
	// settings of sessions.
	warned *facts.Origin
}

// begun is what holds before anything is said.
func (c *Config) begun(t *troubles) *values {
	v := &values{of: map[string]*level{}, troubles: t}
	for name, d := range directives {
		first := said{value: d.initial, at: facts.Origin{Default: strings.TrimSpace("PHP " + c.branch())}}
		if d.built != "" {
			if first.value = d.built; !strings.HasPrefix(c.Folder, "/etc/php/") {
				first.unknown = &facts.Reason{Because: "nothing says it, and what it was made with is not known", Origin: facts.Origin{File: c.Folder}}
			}
		}
		v.of[name] = &level{said: first, may: d.may}
	}
	return v
}

// How a place sets a value.
type setting struct {
	where where
	mode  int  // which of the directive's bits it needs; 0 for none
	seals bool // no folder's own file changes it after that
	late  bool // after the start: what only counts at the start is refused
	below bool // in a folder's own file, which some checks are made of
}

var settings = map[where]setting{
	mainFile:    {where: mainFile},
	poolValue:   {where: poolValue, late: true},
	poolAdmin:   {where: poolAdmin, seals: true, late: true},
	serverValue: {where: serverValue, late: true},
	serverAdmin: {where: serverAdmin, seals: true, late: true},
	perHost:     {where: perHost, mode: bySystem, seals: true, late: true},
	perPath:     {where: perPath, mode: bySystem, seals: true, late: true},
	perFolder:   {where: perFolder, mode: byFolder, late: true, below: true},
}

// set says a value of a directive. What is not worked out is passed over.
func (v *values) set(name string, s said, how setting, line string) {
	l := v.of[name]
	if l == nil {
		v.misspelt(name, s.at, line)
		return
	}
	d := directives[name]
	s.where = how.where
	refused := ""
	switch {
	case how.mode != 0 && l.may&how.mode == 0 && l.may != d.may:
		refused = fmt.Sprintf("%s holds against it", l.at)
	case how.mode != 0 && l.may&how.mode == 0 && how.mode == byFolder:
		refused = name + " may not be set for a folder"
	case how.mode != 0 && l.may&how.mode == 0:
		refused = name + " may not be set there"
	case s.unknown == nil && d.refuses != nil && d.refuses(s.value):
		refused = fmt.Sprintf("the runtime does not take %q for %s", secrets.Of(name, s.value), name)
	case how.late && name == "opcache.enable" && s.unknown == nil && yes(s.value):
		if yes(l.value) && l.unknown == nil {
			return
		}
		refused = "the byte-code cache may only be switched off after the start"
	}
	warns := how.mode != 0 && how.late && v.warned == nil
	if warns && s.unknown == nil && d.refuses != nil && d.refuses(s.value) {
		v.warned = &s.at
	}
	if refused != "" {
		if l.sealed == nil && (s.unknown != nil || l.unknown != nil || s.value != l.value) {
			v.troubles.add(facts.Trouble{Kind: facts.NoEffect, Line: line, At: s.at, Because: refused})
		}
		return
	}
	if v.warned != nil && how.late && how.mode != 0 && strings.HasPrefix(name, "session.") {
		s.unknown = &facts.Reason{Because: "the runtime may have warned of something before it, after which it takes no more settings of sessions", Origin: *v.warned}
	}
	if how.below {
		if l.sealed != nil {
			s.unknown = l.sealed
		} else if confined := v.of["open_basedir"]; (name == "error_log" || name == "session.save_path" || name == "open_basedir") && (confined.value != "" || confined.unknown != nil) {
			s.unknown = &facts.Reason{Because: "the runtime takes it only when it lies in the folders of open_basedir", Origin: s.at}
		}
	}
	l.beaten = slices.Insert(l.beaten, 0, l.said)
	l.said = s
	if how.seals {
		l.may = bySystem
	}
	if wrong := sizeWrong(name, s); wrong != "" {
		if warns {
			v.warned = &s.at
		}
		v.troubles.add(facts.Trouble{Kind: facts.NoSize, Line: line, At: s.at, Because: wrong})
	}
}

// sizeWrong says what is wrong with a value that should be a number or a size, "" when nothing is.
func sizeWrong(name string, s said) string {
	row, is := facts.RuntimeFieldOf(name)
	if !is || s.unknown != nil {
		return ""
	}
	v, wrong := typed(row.Field, name, s.value)
	if wrong == "" {
		return ""
	}
	return fmt.Sprintf("taken for %s: %s", v, wrong)
}

// misspelt tells of a name that is a directive's but for how it is spelt.
func (v *values) misspelt(name string, at facts.Origin, line string) {
	if known := flatNames[flat(name)]; known != "" && known != name {
		v.troubles.add(facts.Trouble{Kind: facts.NoEffect, Line: line, At: at, Because: fmt.Sprintf("the runtime knows no %s; it is called %s", name, known)})
	}
}

var flattener = strings.NewReplacer("-", "", "_", "", ".", "", " ", "")

// flat is a name without what people get wrong in it.
func flat(name string) string { return strings.ToLower(flattener.Replace(name)) }

// flatNames are the directives by their flat names.
var flatNames = func() map[string]string {
	names := map[string]string{}
	for name := range directives {
		names[flat(name)] = name
	}
	return names
}()

// A placed entry is one with the file it stands in.
type placed struct {
	file string
	entry
}

// known tells whether an entry is about a directive that is worked out, or seems to be.
func (e entry) known() bool { return directives[e.name].may != 0 || flatNames[flat(e.name)] != "" }

// plain are such entries of a file, outside its sections for hosts and paths.
func plain(f *iniFile) (list []placed) {
	for _, e := range f.entries {
		if kind, _ := special(e.section); kind == "" && e.known() {
			list = append(list, placed{f.path, e})
		}
	}
	return list
}

// all says what some entries say that the runtime takes together: of several for a directive it knows only the last.
func (v *values) all(list []placed, how setting) {
	last := map[string]int{}
	for i, e := range list {
		if !e.bare && !e.indexed {
			last[e.name] = i
		}
	}
	for i, e := range list {
		switch at, there := last[e.name]; {
		case !there || e.bare || e.indexed:
		case at == i:
			v.set(e.name, e.said(), how, e.text)
		case v.of[e.name] != nil:
			l := v.of[e.name]
			l.beaten = slices.Insert(l.beaten, 0, e.said())
		}
	}
}

func (e placed) said() said {
	s := said{value: e.value, at: facts.Origin{File: e.file, Line: e.line}}
	if e.unknown != "" {
		s.unknown = &facts.Reason{Because: e.unknown, Origin: s.at}
	}
	return s
}

// special tells a section that holds for a host or a path, and which.
func special(section string) (kind, key string) {
	for _, kind := range []string{"PATH", "HOST"} {
		if len(section) > len(kind) && strings.EqualFold(section[:len(kind)], kind) {
			key := strings.TrimRight(section[len(kind):], `/\`)
			if key = strings.TrimLeft(key, "= \t"); kind == "HOST" {
				key = strings.ToLower(key)
			}
			return kind, key
		}
	}
	return "", ""
}

// sections says what the files say for a host or a path.
func (c *Config) sections(v *values, kind, key string, how setting) {
	v.all(c.special[kind+" "+key], how)
}

// At works out what the runtime has been told for programs of a place. Elsewhere is what the web server hands over in other places.
func (c *Config) At(p Place, elsewhere []Told, t *troubles) *values {
	v := c.begun(t)
	v.all(c.relevant, settings[mainFile])
	v.hide(c.unread, 0)
	if p.Module {
		c.handed(v, p.Told)
	} else {
		c.pooled(v, p, elsewhere)
	}
	folder := path.Dir(p.Script)
	if !p.Module {
		c.sections(v, "HOST", strings.ToLower(p.Host), settings[perHost])
		for i, part := range strings.SplitAfter(folder+"/", "/") {
			if i > 0 && part != "" {
				c.sections(v, "PATH", strings.TrimSuffix(strings.Join(strings.SplitAfter(folder+"/", "/")[:i+1], ""), "/"), settings[perPath])
			}
		}
		c.ownFiles(v, p, folder)
	}
	v.hide(p.Unsure, 0)
	return v
}

// hide says why directives cannot be told from here on, those that may be set by so many.
func (v *values) hide(why *facts.Reason, by int) {
	for _, l := range v.of {
		if why != nil && l.may&by == by {
			l.unknown = why
		}
	}
}

// handed says what the web server hands to the runtime inside it.
func (c *Config) handed(v *values, told []Told) {
	for _, line := range told {
		how, admin := setting{where: serverValue, mode: byFolder, late: true, below: line.Override}, strings.HasPrefix(strings.ToLower(line.Kind), "php_admin_")
		if admin {
			how = setting{where: serverAdmin, mode: bySystem, seals: true, late: true}
		}
		if l := v.of[line.Name]; l != nil && l.where == serverAdmin && admin {
			l.may = directives[line.Name].may // a later section's own line takes its place
		}
		v.set(line.Name, line.said(), how, line.text())
	}
}

func (t Told) said() said {
	s := said{value: t.Value, at: t.Origin}
	switch strings.ToLower(t.Kind) {
	case "php_flag", "php_admin_flag":
		s.value = "0"
		if strings.EqualFold(t.Value, "on") || t.Value == "1" {
			s.value = "1"
		}
	case "php_value", "php_admin_value":
		if strings.EqualFold(t.Value, "none") {
			s.value = ""
		}
	}
	if t.Unknown != "" {
		s.unknown = &facts.Reason{Because: t.Unknown, Origin: t.Origin}
	}
	return s
}

func (t Told) text() string {
	return strings.TrimSpace(t.Kind + " " + strings.TrimSpace(t.Name+" "+secrets.Of(t.Name, strings.ReplaceAll(t.Value, "\n", " "))))
}

// pooled says what the pool says, and then what the web server hands over with a request, which stays in the worker.
func (c *Config) pooled(v *values, p Place, elsewhere []Told) {
	pool := c.poolOf(p.Listen)
	if pool != nil {
		for _, admin := range []bool{false, true} {
			for _, line := range slices.Backward(pool.lines) { // of two for a directive the first counts
				if line.admin == admin {
					how := settings[poolValue]
					if admin {
						how = settings[poolAdmin]
					}
					v.set(line.name, line.said(), how, line.text)
				}
			}
		}
	}
	v.hide(c.poolUnread, 0)
	own := c.lines(sent(p.Told))
	c.lingering(v, own, c.lines(slices.DeleteFunc(slices.Clone(elsewhere), func(t Told) bool { return t.Kind != "PHP_VALUE" && t.Kind != "PHP_ADMIN_VALUE" })))
	for _, line := range own {
		how := settings[serverValue]
		if line.admin {
			how = settings[serverAdmin]
		}
		line.entry.text = line.told.text()
		s := said{value: line.entry.value, at: line.told.Origin}
		if why := line.entry.unknown + line.told.Unknown; why != "" {
			s.unknown = &facts.Reason{Because: why, Origin: line.told.Origin}
		}
		v.set(line.entry.name, s, how, line.entry.text)
	}
}

// A handedLine is one line of a PHP_VALUE or PHP_ADMIN_VALUE.
type handedLine struct {
	entry entry
	admin bool
	told  Told
}

// sent are those that count of what a place is told: the last of each kind, and the administrative one after the other.
func sent(told []Told) (list []Told) {
	for _, kind := range []string{"PHP_VALUE", "PHP_ADMIN_VALUE"} {
		for _, t := range slices.Backward(told) {
			if t.Kind == kind {
				list = append(list, t)
				break
			}
		}
	}
	return list
}

// lines are all that are said in values.
func (c *Config) lines(told []Told) (list []handedLine) {
	for _, t := range told {
		for _, e := range readINI(t.Origin.File, []byte(t.Value+"\n"), c.earlier, nil).entries {
			if !e.bare && !e.indexed {
				list = append(list, handedLine{e, t.Kind == "PHP_ADMIN_VALUE", t})
			}
		}
	}
	return list
}

// lingering notes what a worker may have been told for another place, and keeps.
func (c *Config) lingering(v *values, own, others []handedLine) {
	for _, other := range others {
		l := v.of[other.entry.name]
		same := func(h handedLine) bool { return h.entry.name == other.entry.name }
		if l == nil || slices.ContainsFunc(own, func(h handedLine) bool { return same(h) && h.told.Origin == other.told.Origin }) {
			continue
		}
		why := &facts.Reason{Because: fmt.Sprintf("it depends on the worker: %s for another place stays in whichever worker it was sent to", other.told.Kind), Origin: other.told.Origin}
		if other.admin && l.sealed == nil {
			l.sealed = why
		}
		if !slices.ContainsFunc(own, same) {
			l.unknown = why
		}
	}
}

// ownFiles says what the folders' own files say, from the root down to the program's.
func (c *Config) ownFiles(v *values, p Place, folder string) {
	name := v.of["user_ini.filename"]
	if name.unknown != nil {
		v.hide(&facts.Reason{Because: "how the folders' own files are called cannot be told: " + name.unknown.Because, Origin: name.unknown.Origin}, byFolder)
		return
	}
	if name.value == "" || p.Root == "" {
		return
	}
	var list []placed
	var unread *facts.Reason
	for _, dir := range ownFolders(p.Root, folder) {
		if f := c.ownFile(filepath.Join(dir, name.value)); f != nil {
			v.troubles.broken(f)
			unread = cmp.Or(unread, f.unread)
			list = append(list, plain(f)...)
		}
	}
	v.all(list, settings[perFolder])
	v.hide(unread, byFolder)
}

// ownFolders are the folders whose own files are read for a program: those from the root down, or, where the name of the program's folder
// does not begin with the root's, only the program's. Neither is followed through links.
func ownFolders(root, folder string) (list []string) {
	root = strings.TrimSuffix(root, "/")
	rest, below := strings.CutPrefix(folder+"/", root)
	if !below {
		return []string{folder}
	}
	at := root
	for i, part := range strings.Split(strings.TrimSuffix(rest, "/"), "/") {
		if i > 0 {
			at += "/"
		}
		at += part
		list = append(list, at)
	}
	return list
}

// A Value is what a directive says at a place, as the runtime itself spells it.
type Value struct {
	Value   string
	Unknown string
	Origin  facts.Origin
}

// Values are all directives at a place.
func (c *Config) Values(p Place, elsewhere []Told) map[string]Value {
	list := map[string]Value{}
	for name, l := range c.At(p, elsewhere, &troubles{}).of {
		v := Value{Value: l.value, Origin: l.at}
		if l.unknown != nil {
			v = Value{Unknown: l.unknown.Because, Origin: l.unknown.Origin}
		}
		list[name] = v
	}
	return list
}

// Means is what the runtime makes of a value of a directive.
func Means(directive, value string) facts.Value {
	row, is := facts.RuntimeFieldOf(directive)
	if !is {
		return facts.TextOf(facts.String, value)
	}
	v, _ := typed(row.Field, directive, value)
	return v
}

// Unread says why not all files of the runtime are known, nil when they are.
func (c *Config) Unread() *facts.Reason { return cmp.Or(c.unread, c.poolUnread) }
