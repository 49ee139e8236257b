package answer

import (
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"weltaxis/internal/facts"
)

// A Keeping is what a cache of the server does with the answers of what stands behind it, as its configuration has it for one
// request. The rules are those of nginx, which asks few of the questions that RFC 9111 does: it knows neither Authorization nor
// cookies in a request, and goes by the lines of its configuration where an answer says nothing.
type Keeping struct {
	Zone    string
	Key     Text // what tells one kept answer from another
	Valid   []Term
	Bypass  Text     // not empty, and not "0": the program is asked, whatever is kept
	NoKeep  Text     // the same: what it answers is not kept
	Ignored []string // fields of answers that are passed over, in lower case
	Methods []string // of requests that go through the cache
	Uses    int      // so many requests before it keeps anything
	Stale   []string // when it answers with what is too old
	Origin  facts.Origin
	Unsure  *facts.Reason // why it cannot be told; then nothing else counts
}

// A Term is how long answers of some statuses are kept that say nothing themselves.
type Term struct {
	Codes   []string // any for all
	Seconds int
	Origin  facts.Origin
}

// On tells whether a condition of nginx holds.
func On(condition Text) bool { return condition.S != "" && condition.S != "0" }

// Kept is for how long an answer is kept, and why; Lifetime 0 when it is not.
type Kept struct {
	Lifetime time.Duration
	facts.Reason
}

// Keeps is for how long an answer of the program is kept.
func (k *Keeping) Keeps(p *Program, now time.Time) Kept {
	not := func(because string) Kept { return Kept{0, facts.Reason{Because: because, Origin: k.Origin}} }
	field := func(name string) string {
		if slices.Contains(k.Ignored, name) {
			return ""
		}
		return p.Header[name]
	}
	switch {
	case On(k.NoKeep):
		return not("a condition of the configuration has it not kept")
	case field("set-cookie") != "":
		return not("it sets a cookie")
	case strings.TrimSpace(field("vary")) == "*":
		return not("it varies on everything")
	}
	// What forbids it counts if it comes first, as fields in the order of their names do.
	says := strings.ToLower(field("cache-control"))
	for _, no := range []string{"no-cache", "no-store", "private"} {
		if strings.Contains(says, no) {
			return not("it says " + no)
		}
	}
	lifetime, number, stated := ageIn(says)
	expires := field("expires")
	until, err := http.ParseTime(expires)
	switch {
	case stated && lifetime <= 0:
		return not("its Cache-Control says " + says)
	case !stated && expires != "" && (err != nil || !until.After(now)):
		return not("its Expires is past, or no date")
	}
	if kept, counts := k.accelerated(field("x-accel-expires"), now); counts {
		return kept
	}
	switch {
	case stated:
		return Kept{lifetime, facts.Reason{Because: "it says " + number, Origin: k.Origin}}
	case expires != "":
		return Kept{until.Sub(now), facts.Reason{Because: "its Expires says so", Origin: k.Origin}}
	}
	for _, v := range k.Valid {
		if slices.Contains(v.Codes, "any") || slices.Contains(v.Codes, strconv.Itoa(p.Status)) {
			if v.Seconds <= 0 {
				return Kept{0, facts.Reason{Because: "the configuration keeps nothing with this status", Origin: v.Origin}}
			}
			return Kept{time.Duration(v.Seconds) * time.Second, facts.Reason{Because: "the configuration says for how long, and the answer does not", Origin: v.Origin}}
		}
	}
	return not("neither it nor the configuration says for how long")
}

// accelerated is what X-Accel-Expires says: seconds, or a moment after an @; below 0 it does not count.
func (k *Keeping) accelerated(says string, now time.Time) (Kept, bool) {
	moment, absolute := strings.CutPrefix(says, "@")
	n, err := strconv.ParseInt(moment, 10, 64)
	if absolute {
		n -= now.Unix()
	}
	switch {
	case err != nil || n < 0 && !absolute:
		return Kept{}, false
	case n <= 0:
		return Kept{0, facts.Reason{Because: "X-Accel-Expires is past", Origin: k.Origin}}, true
	}
	return Kept{time.Duration(n) * time.Second, facts.Reason{Because: "X-Accel-Expires", Origin: k.Origin}}, true
}

// ageIn is how long a Cache-Control in lower case says that an answer is fresh for a shared cache: s-maxage, or else max-age. Said is
// which of them says so; "" where what stands there is no number.
func ageIn(says string) (lifetime time.Duration, said string, stated bool) {
	for _, name := range []string{"s-maxage=", "max-age="} {
		if _, value, there := strings.Cut(says, name); there {
			value = value[:strings.IndexAny(value+",", ",; ")]
			n, err := strconv.Atoi(value)
			if err != nil {
				return 0, "", true
			}
			return time.Duration(n) * time.Second, name + value, true
		}
	}
	return 0, "", false
}
