package discover

import (
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"weltaxis/internal/facts"
)

var (
	languageShape = regexp.MustCompile(`^[a-z]{2,3}([_-][A-Za-z]{2,4})?(\.[A-Za-z0-9-]+)?$`)
	slugShape     = regexp.MustCompile(`^/?[a-z0-9][a-z0-9/_-]*(\.[a-z]{2,5})?$|^\d+$`)
	versionShape  = regexp.MustCompile(`^v?\d+\.\d+(\.\d+)*([.-][a-z0-9.]+)?$`)
	zoneShape     = regexp.MustCompile(`^(UTC|GMT|[A-Z][A-Za-z]+(/[A-Z][A-Za-z_+-]+){1,2})$`)
	pictureShape  = regexp.MustCompile(`(?i)\.(png|jpe?g|gif|svg|ico|webp|avif)$`)
	markShape     = regexp.MustCompile(`[%:<{\[$#]+[A-Za-z-]+[%>}\]#]*|%-`)
	endingsShape  = regexp.MustCompile(`^\.?[a-z0-9]{2,5}([ ,;|]+\.?[a-z0-9]{2,5})+$`)
	tokenShape    = regexp.MustCompile(`^[A-Za-z0-9_=-]{8,100}$|^<meta |^$`)
	separators    = []string{"|", "-", "–", "—", "·", "»", ":", "/", "•", "::", "~", "&raquo;", "&ndash;"}
	yesOrNo       = []string{"yes", "no", "on", "off", "true", "false", "1", "0", "y", "n", "open", "closed", "enabled", "disabled", "ja", "nein", "oui", "non", "si", "", "allow", "deny", "enable", "disable", "active", "inactive"}
)

// fits tells how well a value has the shape of what a setting holds: 1 speaks for it, 0 says nothing, -1 rules
// it out.
func fits(shape string, c candidate) float64 {
	text := strings.TrimSpace(c.text)
	_, isBool := c.value.(bool)
	_, isList := c.value.([]any)
	number, err := strconv.ParseInt(text, 10, 64)
	isNumber := err == nil
	weigh := func(is bool, against float64) float64 {
		if is {
			return 1
		}
		return against
	}
	if isList && shape != "list" && shape != "token" {
		return -1
	}
	if isBool && shape != "bool" {
		return -1
	}
	switch shape {
	case "bool":
		return weigh(isBool || slices.Contains(yesOrNo, strings.ToLower(text)), -1)
	case "mail":
		return weigh(facts.IsMail(text), map[bool]float64{true: 0, false: -1}[text == ""])
	case "url":
		u, err := url.Parse(text)
		return weigh(err == nil && u.Host != "" && (u.Scheme == "http" || u.Scheme == "https"), map[bool]float64{true: 0, false: -1}[text == ""])
	case "zone":
		return weigh(zoneShape.MatchString(text), -1)
	case "language":
		return weigh(languageShape.MatchString(text), -1)
	case "pattern":
		return weigh(markShape.MatchString(text), map[bool]float64{true: -0.3, false: -0.5}[text == ""])
	case "address pattern":
		return weigh(markShape.MatchString(text) && strings.Contains(text, "/"), -1)
	case "separator":
		return weigh(slices.Contains(separators, text), -1)
	case "picture":
		return weigh(pictureShape.MatchString(text), map[bool]float64{true: 0, false: -1}[text == ""])
	case "count":
		return weigh(isNumber && number >= 0 && number < 1000, -1)
	case "duration":
		return weigh(isNumber && number > 0 || durationText.MatchString(text), -1)
	case "size":
		return weigh(isNumber && number > 0 || sizeText.MatchString(text), -1)
	case "list":
		return weigh(isList || strings.ContainsAny(text, ",;|") || endingsShape.MatchString(text), map[bool]float64{true: 0, false: -0.4}[text == ""])
	case "version":
		return weigh(versionShape.MatchString(text), -1)
	case "path":
		return weigh(strings.HasPrefix(text, "/") && slugShape.MatchString(text), map[bool]float64{true: -0.2, false: -1}[slugShape.MatchString(text)])
	case "slug":
		return weigh(slugShape.MatchString(text) && !isNumber, map[bool]float64{true: 0, false: -1}[text == "" || isNumber])
	case "suffix":
		return weigh(strings.HasPrefix(text, ".") && len(text) < 7 || text == "/", map[bool]float64{true: 0, false: -1}[text == ""])
	case "secret":
		return weigh(len(text) >= 16, map[bool]float64{true: 0, false: -0.2}[text == ""])
	case "token":
		return weigh(isList || tokenShape.MatchString(text), -1)
	case "word":
		return weigh(len(text) > 0 && len(text) < 24 && !strings.Contains(text, "@") && !strings.Contains(text, "/"), -1)
	case "text":
		switch {
		case facts.IsMail(text), facts.URLHost(text) != "", isNumber, markShape.MatchString(text) && strings.ContainsAny(text, "%<{["):
			return -0.8
		case slices.Contains(yesOrNo, strings.ToLower(text)) && text != "":
			return -1
		case strings.Contains(text, " "):
			return 1
		}
		return 0.2
	}
	return 0
}

var (
	durationText = regexp.MustCompile(`^(max-age=)?\d+\s*(s|m|h|d|sec|min|hours?|minutes?|seconds?|days?)?$`)
	sizeText     = regexp.MustCompile(`^\d+\s*[KMGkmg]i?[bB]?$`)
)
