package report

import (
	"cmp"
	"fmt"
	"strings"

	"weltaxis/internal/facts"
	"weltaxis/internal/width"
)

// A Preview is a page as it is found and shared.
type Preview struct {
	Page   *facts.Page
	Name   string // its path, or its address where another page has the same path
	Hidden string // why search engines do not show it; "" when they do
	Barely string // the same without the site's own words
	Crumbs string // its address, as a result shows it
	Wide   Found  // on a wide screen
	Narrow Found  // on a narrow one
	Card   Card
}

// Found is what a search result says of a page, cut where it is cut.
type Found struct{ Title, About string }

// A Card is what somebody is shown who is sent a page.
type Card struct {
	Host, Title, About string
	Picture            string // its address, "" when there is none
	Says               string // of the picture
	Unseen             string // why nobody could tell how large it is
}

// How much of a text a card has room for, in letters.
const (
	cardTitle = 90
	cardAbout = 110
)

// What stands where a page says nothing.
const (
	noTitle       = "(no title: the search engine makes one up)"
	noDescription = "(no description: the search engine takes a piece of the page)"
)

// PreviewOf is a page as it is found and shared.
func PreviewOf(page *facts.Page) Preview {
	p := Preview{Page: page, Name: page.Path, Crumbs: crumbs(page.Address)}
	switch {
	case page.HiddenBy != "":
		p.Barely = "Search engines do not show it"
		p.Hidden = p.Barely + ": " + strings.TrimPrefix(page.Robots, "not listed: ")
	case page.Elsewhere:
		p.Barely, p.Hidden = "Search engines show it under another address", "It is "+page.Robots
	case !page.Indexable:
		p.Barely = "Search engines do not show it"
		p.Hidden = p.Barely + ": " + page.Robots
	}
	title, about := cmp.Or(page.Title, noTitle), cmp.Or(page.Description, noDescription)
	p.Wide = Found{width.Cut(title, width.TitleSize, width.WideTitle), width.Cut(about, width.DescriptionSize, width.WideDescription)}
	p.Narrow = Found{width.Cut(title, width.TitleSize, width.NarrowTitle), width.Cut(about, width.DescriptionSize, width.NarrowDescription)}
	p.Card = Card{Host: facts.URLHost(page.Address), Title: facts.Shorten(cmp.Or(page.CardTitle, page.Title), cardTitle),
		About: facts.Shorten(cmp.Or(page.CardText, page.Description), cardAbout), Picture: page.CardImage}
	switch {
	case page.CardImage == "":
		p.Card.Says = "no picture: the network takes any, or none"
	case page.CardWidth == 0:
		p.Card.Says, p.Card.Unseen = "a picture that could not be looked at", page.CardUnseen
	default:
		p.Card.Says = fmt.Sprintf("a picture of %d × %d pixels", page.CardWidth, page.CardHeight)
	}
	return p
}

// crumbs is an address as a search result shows it.
func crumbs(address string) string {
	return strings.ReplaceAll(strings.TrimSuffix(strings.TrimPrefix(strings.TrimPrefix(address, "https://"), "http://"), "/"), "/", " › ")
}

// names are what pages are called by: their paths, or addresses where a path is that of several.
type names map[string]int

func namesOf(s *facts.Snapshot) names {
	n := names{}
	for i := range s.Pages {
		n[s.Pages[i].Path]++
	}
	return n
}

func (n names) of(path, address string) string {
	if n[path] > 1 && address != "" {
		return address
	}
	return path
}
