package discover

import (
	"strings"

	"weltaxis/internal/facts"
)

// visible is what a visitor gets that a stored value may be recognised in.
type visible struct {
	title, description, language, generator, address string
	titles                                           []string
	robots                                           *bool // the home page may be listed
	sitemap                                          *bool
	verification                                     []string
	feedItems                                        string
	reply                                            string
}

// shown takes from a snapshot what settings show themselves in; nil gives nothing.
func shown(live *facts.Snapshot) *visible {
	if live == nil {
		return nil
	}
	text := func(term *facts.Term) string { value, _ := live.Is(term); return spaced(value.String()) }
	yes := func(term *facts.Term) *bool {
		value, known := live.Is(term)
		if !known {
			return nil
		}
		is := value.Bool()
		return &is
	}
	v := &visible{title: text(facts.HomeTitle), description: text(facts.HomeDescription), language: text(facts.HomeLanguage), generator: text(facts.HomeGenerator),
		address: text(facts.LiveAddress.Term), robots: yes(facts.HomeIndexable), sitemap: yes(facts.LiveSitemapAnswers.Term), feedItems: text(facts.LiveFeedItems.Term), reply: text(facts.LiveFeedReply.Term)}
	if tokens, known := live.Is(facts.HomeVerification); known {
		v.verification = tokens.List()
	}
	for _, page := range live.Pages {
		if page.Title != "" {
			v.titles = append(v.titles, spaced(page.Title))
		}
	}
	return v
}

// spaced is a text with one space wherever there is white space: in markup, more of it means nothing.
func spaced(text string) string { return strings.Join(strings.Fields(text), " ") }

// shows tells how strongly the live pages speak for a value being this setting, and how.
func (v *visible) shows(name string, c candidate) (float64, string) {
	text := spaced(c.text)
	if v == nil || text == "" {
		return 0, ""
	}
	is := func(yes bool, weight float64, says string) (float64, string) {
		if yes {
			return weight, says
		}
		return 0, ""
	}
	long := len([]rune(text)) >= 4
	switch facts.Settings.Name(name) {
	case facts.SiteTitle.Name:
		inAll := long && len(v.titles) > 2
		for _, title := range v.titles {
			inAll = inAll && strings.Contains(title, text)
		}
		return is(inAll, 0.5, "it is part of every page's title")
	case facts.MetaDescription.Name:
		return is(len(text) > 20 && text == v.description, 0.9, "it is the home page's description")
	case facts.SiteLanguage.Name:
		return is(long && strings.EqualFold(strings.ReplaceAll(text, "_", "-"), v.language), 0.3, "it is the home page's language")
	case facts.SiteAddress.Name:
		return is(facts.SameAddress(text, v.address), 0.25, "it is the address that was looked at")
	case facts.SystemVersion.Name:
		return is(strings.Contains(v.generator, text), 0.4, "the generator tag shows it")
	case facts.MetaVerification.Name:
		for _, token := range v.verification {
			if token != "" && strings.Contains(text, token) {
				return 0.9, "the home page carries it as a verification tag"
			}
		}
	case facts.FeedReply.Name:
		return is(facts.IsMail(text) && text == v.reply, 0.2, "readers of the feed reply to it")
	case facts.TitleSeparator.Name:
		return is(len(text) < 4 && strings.Contains(v.title, " "+text+" "), 0.2, "the title has it between its parts")
	}
	return 0, ""
}
