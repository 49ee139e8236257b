package render

import (
	"bytes"
	"html/template"
	"regexp"
	"sync"

	"github.com/microcosm-cc/bluemonday"
	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/ast"
	"github.com/yuin/goldmark/extension"
	"github.com/yuin/goldmark/parser"
	gtext "github.com/yuin/goldmark/text"
	"github.com/yuin/goldmark/util"
)

// markdown reads an author's word (CommonMark, with tables); its headings go below the page's own.
var markdown = sync.OnceValue(func() goldmark.Markdown {
	return goldmark.New(goldmark.WithExtensions(extension.Table), goldmark.WithParserOptions(parser.WithASTTransformers(util.Prioritized(belowOurs{}, 500))))
})

type belowOurs struct{}

// Transform implements parser.ASTTransformer: a note has headings of one level.
func (belowOurs) Transform(document *ast.Document, _ gtext.Reader, _ parser.Context) {
	_ = ast.Walk(document, func(n ast.Node, entering bool) (ast.WalkStatus, error) { // the walker fails at nothing
		if heading, is := n.(*ast.Heading); is && entering {
			heading.Level = 3
		}
		return ast.WalkContinue, nil
	})
}

// notePolicy lets through what a letter has: no picture, since a page loads none, no name that could be led to, no look.
var notePolicy = sync.OnceValue(func() *bluemonday.Policy {
	p := bluemonday.NewPolicy()
	p.AllowElements("p", "br", "hr", "h3", "strong", "em", "code", "pre", "blockquote", "ul", "ol", "li", "table", "thead", "tbody", "tr", "th", "td")
	p.AllowAttrs("start").Matching(regexp.MustCompile(`^[0-9]{1,6}$`)).OnElements("ol")
	p.AllowAttrs("href").OnElements("a")
	p.AllowURLSchemes("https", "http", "mailto")
	p.RequireParseableURLs(true)
	p.RequireNoReferrerOnLinks(true)
	return p
})

// letter is an author's word as markup that is safe on any page.
func letter(note string) (template.HTML, error) {
	var out bytes.Buffer
	if err := markdown().Convert([]byte(note), &out); err != nil {
		return "", err
	}
	return template.HTML(notePolicy().SanitizeBytes(out.Bytes())), nil
}
