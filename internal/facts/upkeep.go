package facts

import "net"

// The lists of what is known elsewhere of what is installed, and of program files that nothing explains.
const (
	ListInstalled = "upkeep.installed"
	ListFlaws     = "upkeep.flaws"
	ListAltered   = "upkeep.altered"
	ListStrange   = "files.strange"
)

// PartKinds are what something installed may be.
var PartKinds = []string{"system", "extension", "theme", "library"}

// A Part is something that is installed, as one side of a site tells.
type Part struct {
	Kind, Name, Version string // Version is "" when nobody could tell
	Active, Known       bool   // Known: it could be told whether it is switched on
	Ecosystem           string // that of a library; "" when the dialect says
	From                Source
	Origin              Origin
}

// The terms of what is known elsewhere. Which list it is from says its origin.
var (
	UpkeepVersionsOf   = amountKey(Upkeep, Date, "versions_of", "of which day the list of versions is").varies()
	UpkeepAdvisoriesOf = amountKey(Upkeep, Date, "advisories_of", "when the newest of the advisories was last changed").varies()
	UpkeepAdvisories   = numberKey(Upkeep, "advisories", "advisories that were looked through").varies()
	UpkeepUnjudged     = listKey(Upkeep, "advisories_unjudged", "advisories on something installed of which it cannot be told whether they are about its version, each with why").varies()
	UpkeepChecked      = numberKey(Upkeep, "checked", "files that were held against their checksums").varies()
)

// IsThisMachine tells whether a host is this machine's own: what is said to it passes through no other hands.
func IsThisMachine(host string) bool {
	ip := net.ParseIP(host)
	return ip != nil && ip.IsLoopback() || host == "localhost"
}
