package facts

// A Hint is something that a look found out by which another look may go: nothing is judged by it.
type Hint uint8

// The hints.
const (
	LoginPathHint  Hint = 1 + iota // where one signs in, as the content system has been told
	ServedPathHint                 // a path at which the web server has a file
	InnerPathHint                  // the path of an inner page
	PublicHint                     // a folder of this machine that the web server serves
	SpellingHint                   // another spelling of the site's address, in full
	CookieHint                     // the name of a cookie that the site sets
	ProgramHint                    // the program that the web server runs for the home page
	InstalledHint                  // the name of something that is installed; the rest of it is among the parts
	ExposedHint                    // a file below the root that nobody outside should see and that lies where the web server serves
	NoticeHint                     // the words of the notice that the site is down, as the content system has been told
	ClosedHint                     // that the content system has been told to close the site, and how: notice or lock
)

var hintWords = []string{"", "login path", "served path", "inner path", "public folder", "spelling", "cookie", "program", "installed part", "exposed file", "notice", "closed"}

func (h Hint) String() string { return hintWords[h] }

// MarshalText implements encoding.TextMarshaler.
func (h Hint) MarshalText() ([]byte, error) { return []byte(h.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (h *Hint) UnmarshalText(text []byte) (err error) {
	*h, err = find[Hint]("hint", hintWords, text)
	return err
}

// Hints are what was told of each; what nobody told is not there.
type Hints map[Hint][]string

// First is the first that was told, "" when nothing was.
func (h Hints) First(hint Hint) string {
	if told := h[hint]; len(told) > 0 {
		return told[0]
	}
	return ""
}
