package report

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
	"weltaxis/internal/fix"
)

// A Shut is what came of closing a site or locking it, or of opening it again, in words.
type Shut struct {
	Site     string        `json:"site"`
	Lock     bool          `json:"lock"`
	Open     bool          `json:"open"`           // it was taken away
	Took     bool          `json:"took"`           // it is done, and seen to be so
	Until    time.Time     `json:"until,omitzero"` // when the site is to be back
	Name     string        `json:"name,omitempty"` // of a lock whose password was made here
	Password string        `json:"password,omitempty"`
	Back     []string      `json:"back,omitempty"` // what was taken back
	Doors    []ShutDoor    `json:"doors"`          // what a stranger gets at each kind of address; empty when nobody looked
	Wrong    []ShutWrong   `json:"wrong"`          // what is not as it should be
	Gaps     []string      `json:"gaps,omitempty"` // what was open, for which all was taken back
	Stops    []string      `json:"stops,omitempty"`
	Outcomes []fix.Outcome `json:"outcomes"`
}

// A ShutDoor is a kind of address, and what is there.
type ShutDoor struct {
	What  string `json:"what"`
	Says  string `json:"says"`            // to a stranger
	Staff string `json:"staff,omitempty"` // to somebody who may come in; "" when nobody looked
}

// A ShutWrong is one thing that is not as it should be, and the rule that says so.
type ShutWrong struct {
	Rule     string         `json:"rule"`
	Severity facts.Severity `json:"severity"`
	Says     string         `json:"says"`
	Fix      string         `json:"fix"`
}

// ShutOf is what came of a run, by the look after it.
func ShutOf(site string, lock, open bool, done *fix.Report, rest []fix.Change) *Shut {
	s := &Shut{Site: site, Lock: lock, Open: open, Doors: []ShutDoor{}, Wrong: []ShutWrong{}, Outcomes: []fix.Outcome{}}
	if done == nil {
		return s
	}
	s.Outcomes = done.Outcomes
	s.Took = !slices.ContainsFunc(rest, func(c fix.Change) bool { return c.Cannot != "" && !c.Finisher() })
	if done.After == nil {
		return s
	}
	s.Doors, s.Wrong = DoorsOf(done.After, lock, open)
	shows, known := done.After.Snapshot.Is(facts.LiveHomeShows.Term)
	want := map[bool]string{true: facts.ShowsLock, false: facts.ShowsNotice}[lock]
	s.Took = s.Took && known && (shows.Text() == want) != open
	if stops := slices.IndexFunc(done.After.Deviations, func(d facts.Deviation) bool { return d.Rule == "maintenance.lock-stops" }); stops >= 0 && !open {
		s.Stops = append(s.Stops, done.After.Deviations[stops].Says)
	}
	return s
}

// DoorsOf are what a stranger gets at each kind of address, and what of the notice or the lock is not as it should be.
func DoorsOf(r *audit.Result, lock, open bool) (doors []ShutDoor, wrong []ShutWrong) {
	doors, wrong = []ShutDoor{}, []ShutWrong{}
	for i := range r.Snapshot.Doors {
		d := &r.Snapshot.Doors[i]
		row := ShutDoor{What: d.Name(), Says: doorSays(d)}
		if d.Staff != "" {
			row.Staff = doorShows(d.Staff)
		}
		doors = append(doors, row)
	}
	for _, g := range r.Snapshot.Gaps {
		if slices.Contains(g.Names, facts.ListDoors) {
			doors = append(doors, ShutDoor{What: g.What, Says: "not seen: " + g.Because})
		}
	}
	for _, d := range r.Deviations {
		about := strings.HasPrefix(d.Rule, "maintenance.lock") == lock && strings.HasPrefix(d.Rule, "maintenance.") || d.Rule == "visibility.answers"
		words := strings.HasPrefix(d.Rule, "maintenance.message") || strings.HasPrefix(d.Rule, "maintenance.contact")
		if words && open || !about || d.Accepted != nil || d.Rule == "maintenance.lock-stops" || d.Rule == "maintenance.lock" && open {
			continue
		}
		w := ShutWrong{Rule: d.Rule, Severity: d.Severity, Says: d.Says}
		if len(d.Fix.Steps) > 0 {
			w.Fix = d.Fix.Steps[0]
		}
		wrong = append(wrong, w)
	}
	return doors, wrong
}

// OpenOf are the addresses that show the site though it is closed, in words, by how they are called; but for those that are left open by name.
func OpenOf(r *audit.Result, lock bool, left []string) (open []string) {
	for i := range r.Snapshot.Doors {
		d := &r.Snapshot.Doors[i]
		spared := d.Kind == facts.RobotsDoor || d.Kind == facts.ChallengeDoor || !lock && d.Kind == facts.SignInDoor
		if d.Shows == facts.ShowsSite && !spared && !slices.ContainsFunc(left, func(name string) bool { return leavesOpen(name, d) }) {
			open = append(open, fmt.Sprintf("%s (%d)", d.Name(), d.Status))
		}
	}
	return open
}

// leavesOpen tells whether a place that is left open by name is where a door is: its address or path, a folder above it, a location as nginx has it, a
// host, or a file that lets in, of which nobody here knows where it counts.
func leavesOpen(name string, d *facts.Door) bool {
	if expression, is := strings.CutPrefix(name, "~"); is {
		found, err := regexp.Compile("(?i)" + strings.TrimSpace(strings.TrimPrefix(expression, "*")))
		return err == nil && found.MatchString(d.Path)
	}
	if exact, is := strings.CutPrefix(name, "="); is {
		path, _, _ := strings.Cut(d.Path, "?")
		return path == strings.TrimSpace(exact)
	}
	name = strings.TrimSpace(strings.TrimPrefix(name, "^~"))
	switch {
	case strings.Contains(name, "://"):
		return strings.TrimSuffix(d.Address, "/") == name || strings.HasPrefix(d.Address, strings.TrimSuffix(name, "/")+"/")
	case strings.HasPrefix(name, "/"):
		return strings.HasPrefix(d.Path, name)
	}
	return name != "" && facts.URLHost(d.Address) == name
}

// Worst tells whether something that is not as it should be is high or worse.
func (s *Shut) Worst() bool {
	return slices.ContainsFunc(s.Wrong, func(w ShutWrong) bool { return w.Severity <= facts.High })
}

// doorShows says what is there, in words.
func doorShows(shows string) string {
	return map[string]string{facts.ShowsSite: "the site", facts.ShowsNotice: "the notice", facts.ShowsLock: "asks for name and password", facts.ShowsRefusal: "lets nobody in",
		facts.ShowsNothing: "nothing is there", facts.ShowsFailure: "something fails", facts.ShowsElsewhere: "leads to another site"}[shows]
}

// doorSays says what a stranger gets.
func doorSays(d *facts.Door) string {
	says := doorShows(d.Shows)
	if d.Shows == facts.ShowsSite && d.Kind != facts.HomeDoor && d.Kind != facts.InnerDoor && d.Kind != facts.UnencryptedDoor && d.Kind != facts.OtherNameDoor && d.Kind != facts.SpeltDoor {
		says = "as ever"
	}
	says += fmt.Sprintf(" (%d", d.Status)
	if d.Retry != "" {
		says += ", again after " + seconds(d.Retry)
	}
	if d.Hit {
		says += ", out of a cache"
	}
	says += ")"
	switch to := d.Leads; {
	case to == "":
	case d.Strays:
		says += fmt.Sprintf(", by %d to %s", d.First, to)
	case !strings.HasPrefix(to, origin(d.Address)+"/"): // the same path elsewhere
		says += fmt.Sprintf(", by %d to %s", d.First, origin(to))
	}
	return says
}

// origin is the scheme and the host of an address.
func origin(address string) string {
	scheme, rest, _ := strings.Cut(address, "://")
	host, _, _ := strings.Cut(rest, "/")
	return scheme + "://" + host
}

// seconds says a Retry-After as people do.
func seconds(retry string) string {
	span, err := time.ParseDuration(retry + "s")
	if err != nil {
		return retry
	}
	switch {
	case span >= time.Hour && span%time.Hour == 0:
		return Count(int(span.Hours()), "hour", "hours")
	case span >= time.Hour:
		return fmt.Sprintf("%d h %d min", int(span.Hours()), int(span.Minutes())%60)
	case span >= time.Minute:
		return Count(int(span.Minutes()), "minute", "minutes")
	}
	return Count(int(span.Seconds()), "second", "seconds")
}
