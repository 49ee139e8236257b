package render

import (
	"encoding/csv"
	"fmt"
	"io"
	"strconv"
	"strings"

	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
	"weltaxis/internal/report"
	"weltaxis/internal/width"
)

// Pages writes the page table for a terminal: one line a page, and under it what deviates.
func Pages(p Sheet, r *report.Report, rows []audit.PageRow) {
	p.looked(r)
	fmt.Fprintln(p)
	var cells [][]string
	for _, row := range rows {
		cells = append(cells, []string{Safe(facts.Shorten(row.Path, 60)), Safe(facts.Shorten(row.Title, 80)), fmt.Sprintf("%d/%d", len([]rune(row.Title)), len([]rune(row.Description))),
			Safe(shortRobots(row.Page)), strings.Join(row.Deviates, ", ")})
	}
	p.table([]string{"address", "title", "chars", "engines", "deviates"}, cells, func(row, column int) Style {
		if column == 4 {
			return verdictStyles[facts.Deviates]
		}
		return plain
	})
	p.block(0, "", 0, "chars: of title and description; engines: whether search engines may list it. "+report.Count(len(rows), "page", "pages")+", the home page first, then those with the most trouble.", quiet)
	p.shared("the same title", audit.Shared(rows, func(page *facts.Page) string { return page.Title }), func(page *facts.Page) string { return page.Title })
	p.shared("the same description", audit.Shared(rows, func(page *facts.Page) string { return page.Description }), func(page *facts.Page) string { return page.Description })
}

// shortRobots is the first words of what search engines may do.
func shortRobots(page *facts.Page) string {
	text, _, _ := strings.Cut(page.Robots, ":")
	if page.Status != 200 {
		return fmt.Sprintf("answers %d", page.Status)
	}
	return text
}

// shownPages are how many pages of a group are named.
const shownPages = 3

func (p Sheet) shared(title string, groups [][]audit.PageRow, text func(*facts.Page) string) {
	if len(groups) == 0 {
		return
	}
	fmt.Fprintln(p)
	p.line(title)
	for _, group := range groups {
		p.block(0, "", 2, fmt.Sprintf("%d× “%s”", len(group), Safe(facts.Shorten(text(group[0].Page), 120))), plain)
		for i, row := range group {
			if i == shownPages {
				p.block(0, "", 6, fmt.Sprintf("and %d more", len(group)-i), quiet)
				break
			}
			p.block(0, "", 6, Safe(row.Path), quiet)
		}
	}
}

// PagesCSV writes the page table as CSV (RFC 4180). A cell that a spreadsheet would take for a formula is defused
// with an apostrophe.
func PagesCSV(w io.Writer, rows []audit.PageRow) error {
	out := csv.NewWriter(w)
	_ = out.Write([]string{"address", "kind", "status", "title", "title_characters", "title_pixels", "title_shared", "description", "description_characters",
		"description_pixels", "description_shared", "search_engines", "indexable", "canonical", "canonical_works", "h1", "words", "images", "images_without_alt",
		"card_title", "card_image", "card_width", "card_height", "structured", "in_sitemap", "linked", "depth", "deviates"})
	n := strconv.Itoa
	for _, r := range rows {
		cells := []string{r.Address, r.Kind, n(r.Status), r.Title, n(len([]rune(r.Title))), n(r.TitlePixels), n(r.TitleShared), r.Description, n(len([]rune(r.Description))),
			n(r.DescPixels), n(r.DescShared), r.Robots, strconv.FormatBool(r.Indexable), r.Canonical, r.CanonicalWorks, n(r.Headings), n(r.Words), n(r.Images),
			strings.Join(r.ImagesBare, " "), r.CardTitle, r.CardImage, n(r.CardWidth), n(r.CardHeight), strings.Join(r.Structured, " "),
			strconv.FormatBool(r.InSitemap), strconv.FormatBool(r.Linked), n(r.Depth), strings.Join(r.Deviates, " ")}
		for i := range cells {
			cells[i] = defused(cells[i])
		}
		_ = out.Write(cells)
	}
	out.Flush()
	return out.Error()
}

// defused keeps a spreadsheet from reading a text as a formula, and a terminal from acting upon it.
func defused(cell string) string {
	cell = string(harmless([]byte(cell)))
	if cell != "" && strings.ContainsRune("=+-@\t\r", rune(cell[0])) && cell != "-1" {
		return "'" + cell
	}
	return cell
}

// columnsOfResult are the columns of a terminal that a wide result is drawn in; a narrow one has fewer.
const columnsOfResult = 76

// Preview writes how a page looks as a search result, wide and narrow, and as a card when it is shared.
func Preview(p Sheet, page facts.Page) {
	v := report.PreviewOf(&page)
	p.block(0, "", 0, Safe(page.Address), bold)
	if v.Hidden != "" {
		p.block(0, "", 0, Safe(v.Hidden), quiet)
	}
	fmt.Fprintln(p)
	p.result("as a result, wide", v, v.Wide, width.WideTitle, width.WideDescription, columnsOfResult)
	p.result("as a result, narrow", v, v.Narrow, width.NarrowTitle, width.NarrowDescription, columnsOfResult*2/3)
	p.card(v.Card)
}

// result draws one search result: the site and path, the title and the text as they are cut there.
func (p Sheet) result(name string, v report.Preview, found report.Found, title, text, columns int) {
	p.line(name)
	columns = min(columns, p.width()-2)
	narrow := Sheet{p.Writer, columns + 2}
	narrow.block(2, "", 0, Safe(v.Crumbs), quiet)
	narrow.block(2, "", 0, Safe(found.Title), bold)
	narrow.block(2, "", 0, Safe(found.About), plain)
	p.block(2, "", 0, fmt.Sprintf("title about %d of %d pixels%s; description about %d of %d%s", v.Page.TitlePixels, title, over(v.Page.TitlePixels, title),
		v.Page.DescPixels, text, over(v.Page.DescPixels, text)), quiet)
	fmt.Fprintln(p)
}

func over(pixels, limit int) string {
	if pixels > limit {
		return ", so it is cut off"
	}
	return ""
}

// card draws the card of a shared page in a frame.
func (p Sheet) card(card report.Card) {
	p.line("as a card, when shared")
	const columns = 52
	var lines []string
	for _, part := range []string{card.Picture, card.Says, card.Unseen} {
		if part != "" {
			lines = append(lines, wrap(Safe(part), columns)...)
		}
	}
	const height = 6
	inside := make([]string, (height-len(lines))/2, height)
	for _, line := range lines {
		inside = append(inside, centred(quiet.Render(line), columns))
	}
	for len(inside) < height {
		inside = append(inside, "")
	}
	inside = append(inside, quiet.Render(Safe(card.Host)))
	for _, line := range wrap(Safe(card.Title), columns) {
		inside = append(inside, bold.Render(line))
	}
	inside = append(inside, wrap(Safe(card.About), columns)...)
	fmt.Fprintln(p, framed(inside, columns))
}
