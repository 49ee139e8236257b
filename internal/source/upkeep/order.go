package upkeep

import (
	"cmp"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/Masterminds/semver/v3"
	gem "github.com/aquasecurity/go-gem-version"
	pep440 "github.com/aquasecurity/go-pep440-version"
	deb "github.com/knqyf263/go-deb-version"
)

// orderOf are the ecosystems of the OSV schema (§ affected[].package.ecosystem) of whose versions the order is known, and how two
// are compared.
var orderOf = map[string]func(a, b string) (int, bool){
	"Packagist": packagist, "npm": semantic, "crates.io": semantic, "Go": semantic, "Hex": semantic, "Pub": semantic, "SemVer": semantic,
	"PyPI": pypi, "RubyGems": rubyGems, "Debian": debian, "Ubuntu": debian,
}

// Ecosystems are those of whose versions the order is known.
func Ecosystems() []string {
	var names []string
	for name := range orderOf {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// Base is an ecosystem without its release or repository: Debian of Debian:12.
func Base(ecosystem string) string {
	base, _, _ := strings.Cut(ecosystem, ":")
	return base
}

// maxVersion is the longest version that is compared, in bytes.
const maxVersion = 200

// Compare compares two versions by the order of their ecosystem: it is below 0 when a is the earlier one. Known is false for an
// ecosystem whose order is not known, and for what is no version of it.
func Compare(ecosystem, a, b string) (order int, known bool) {
	compare, there := orderOf[Base(ecosystem)]
	a, b = strings.TrimSpace(a), strings.TrimSpace(b)
	if !there || a == "" || b == "" || len(a) > maxVersion || len(b) > maxVersion {
		return 0, false
	}
	return compare(a, b)
}

// semantic is Semantic Versioning 2.0.0 §11. A number that is left out is 0, and a v before it means nothing, as those who write
// such versions have it.
func semantic(a, b string) (int, bool) {
	x, err := semver.NewVersion(a)
	y, err2 := semver.NewVersion(b)
	if err != nil || err2 != nil {
		return 0, false
	}
	return x.Compare(y), true
}

// pypi is PEP 440.
func pypi(a, b string) (int, bool) {
	x, err := pep440.Parse(a)
	y, err2 := pep440.Parse(b)
	if err != nil || err2 != nil {
		return 0, false
	}
	return x.Compare(y), true
}

func rubyGems(a, b string) (int, bool) {
	x, err := gem.NewVersion(a)
	y, err2 := gem.NewVersion(b)
	if err != nil || err2 != nil {
		return 0, false
	}
	return x.Compare(y), true
}

// debian is deb-version(7).
func debian(a, b string) (int, bool) {
	x, err := deb.NewVersion(a)
	y, err2 := deb.NewVersion(b)
	if err != nil || err2 != nil {
		return 0, false
	}
	return x.Compare(y), true
}

var (
	packagistShape = regexp.MustCompile(`^[vV]?\d+(\.\d+)*([-._+~]?[0-9A-Za-z]+)*$`)
	partOrWord     = regexp.MustCompile(`\d+|[A-Za-z]+`)
	buildMetadata  = regexp.MustCompile(`\+[0-9A-Za-z.-]+$`)
	numbersFirst   = regexp.MustCompile(`^\d+(\.\d+)*`)
)

// packagist is the order of the runtime's own version_compare, as its manual gives it, of versions that are brought into one form
// first as the package registry does: without a v before and build metadata behind, and with at least four numbers. What is a branch is in
// no order.
func packagist(a, b string) (int, bool) {
	a, okA := packagistForm(a)
	b, okB := packagistForm(b)
	if !okA || !okB {
		return 0, false
	}
	return VersionCompare(a, b), true
}

func packagistForm(version string) (string, bool) {
	lower := strings.ToLower(version)
	if strings.HasPrefix(lower, "dev-") || strings.HasSuffix(lower, "-dev") || strings.HasSuffix(lower, ".x") || !packagistShape.MatchString(version) {
		return "", false
	}
	version = strings.TrimLeft(buildMetadata.ReplaceAllString(lower, ""), "v")
	numbers := numbersFirst.FindString(version)
	return numbers + strings.Repeat(".0", max(0, 3-strings.Count(numbers, "."))) + version[len(numbers):], true
}

// ranks of the words that version_compare knows: what else is a word comes before all, and a number after release candidates.
var ranks = []struct {
	word string
	rank int
}{{"dev", 0}, {"alpha", 1}, {"a", 1}, {"beta", 2}, {"b", 2}, {"rc", 3}, {"#", 4}, {"pl", 5}, {"p", 5}}

func rank(part string) int {
	if part != "" && part[0] >= '0' && part[0] <= '9' {
		part = "#"
	}
	for _, r := range ranks {
		if strings.HasPrefix(strings.ToLower(part), r.word) {
			return r.rank
		}
	}
	return -1
}

// VersionCompare is the order of PHP's version_compare (PHP manual, version_compare): part by part, numbers as numbers, words by
// what they say of a release. It is below 0 when a is the earlier one.
func VersionCompare(a, b string) int {
	x, y := partOrWord.FindAllString(a, -1), partOrWord.FindAllString(b, -1)
	for i := range min(len(x), len(y)) {
		m, errM := strconv.ParseUint(x[i], 10, 64)
		n, errN := strconv.ParseUint(y[i], 10, 64)
		c := 0
		if errM == nil && errN == nil {
			c = cmp.Compare(m, n)
		} else {
			c = cmp.Compare(rank(x[i]), rank(y[i]))
		}
		if c != 0 {
			return c
		}
	}
	switch {
	case len(x) > len(y):
		if rank(x[len(y)]) == 4 {
			return 1
		}
		return cmp.Compare(rank(x[len(y)]), 4)
	case len(x) < len(y):
		if rank(y[len(x)]) == 4 {
			return -1
		}
		return cmp.Compare(4, rank(y[len(x)]))
	}
	return 0
}
