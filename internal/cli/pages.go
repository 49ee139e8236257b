package cli

import (
	"fmt"
	"io"
	"net/url"

	"github.com/spf13/cobra"

	"weltaxis/internal/facts"
	"weltaxis/internal/render"
	"weltaxis/internal/report"
)

func (p *program) pagesCommand() *cobra.Command {
	return p.viewCommand("pages [SITE]", "Shows the page table: address, title, description, robots, canonical, card",
		"  weltaxis pages https://www.name.example\n  weltaxis pages mysite --format csv --output pages.csv",
		func(r *report.Report) []form {
			rows := r.Pages()
			return []form{p.text(func(page render.Sheet) { render.Pages(page, r, rows) }), jsonForm(rows),
				{"csv", func(w io.Writer) error { return render.PagesCSV(w, rows) }}}
		}, "text", "json", "csv")
}

func (p *program) previewCommand() *cobra.Command {
	return p.written(p.looking(&cobra.Command{
		Use:   "preview [SITE] [PAGE]",
		Short: "Shows a page as a search result, wide and narrow, and as a shared card",
		Long: `Shows how a page looks as a search result, on a wide screen and a narrow one, cut where it would be cut, and as a
card when somebody shares it. PAGE is its path or address; default: the home page. How wide a text is, is an
estimate from the letters of a common sans-serif face.`,
		Example: "  weltaxis preview https://www.name.example /about/",
		Args:    takes(0, 2), ValidArgsFunction: completeSites,
		RunE: func(c *cobra.Command, args []string) error {
			wanted := "/"
			if len(args) == 2 {
				wanted = args[1]
			}
			p.pages = []string{wanted}
			result, err := p.audit(c.Context(), args[:min(len(args), 1)])
			if err != nil {
				return err
			}
			page, err := pageOf(result, wanted)
			if err != nil {
				return err
			}
			return p.write(p.text(func(out render.Sheet) { render.Preview(out, page) }), jsonForm(page))
		},
	}), "text", "json")
}

// pageOf finds a page by its path or address.
func pageOf(r *report.Report, wanted string) (facts.Page, error) {
	if u, err := url.Parse(wanted); err == nil && u.Host != "" {
		wanted = u.RequestURI()
	}
	if page := r.Snapshot.PageAt(wanted); page != nil {
		return *page, nil
	}
	if len(r.Snapshot.Pages) == 0 {
		return facts.Page{}, fmt.Errorf("no page was seen: %s", r.Snapshot.Why("live.pages"))
	}
	return facts.Page{}, fmt.Errorf("there is no page at %s that answers; weltaxis pages lists those that do", wanted)
}
