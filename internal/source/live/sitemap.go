package live

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net/url"
	"slices"
	"strings"

	"weltaxis/internal/facts"
)

// Bounds of a sitemap file (sitemaps.org 0.9).
const (
	maxSitemapAddresses = 50_000
	maxSitemapBytes     = 50 << 20
	maxSitemapFiles     = 50 // files of an index that are read
)

// A sitemap is one file of addresses, or an index of such files.
type sitemap struct {
	index     bool
	addresses []string
}

// parseSitemap reads a sitemap: XML (urlset or sitemapindex), a feed, or plain text, compressed or not. The error
// says what is wrong with it; what was read before stands.
func parseSitemap(data []byte) (*sitemap, error) {
	reader := io.Reader(bytes.NewReader(data))
	if bytes.HasPrefix(data, []byte{0x1f, 0x8b}) {
		unzipped, err := gzip.NewReader(reader)
		if err != nil {
			return &sitemap{}, fmt.Errorf("it is not compressed as it says: %w", err)
		}
		reader = unzipped
	}
	bounded := &io.LimitedReader{R: reader, N: maxSitemapBytes + 1}
	buffered := bufio.NewReader(bounded)
	start, _ := buffered.Peek(256)
	var s *sitemap
	var err error
	trimmed := bytes.TrimLeft(bytes.TrimPrefix(start, []byte("\xef\xbb\xbf")), " \t\r\n")
	declared := bytes.Index(start, []byte("<?xml"))
	switch {
	case bytes.HasPrefix(trimmed, []byte("<")):
		s, err = sitemapXML(buffered)
	case declared > 0 || bytes.Contains(start, []byte("<urlset")) || bytes.Contains(start, []byte("<sitemapindex")):
		s, err = &sitemap{}, fmt.Errorf("something stands before it: %q", truncated(string(trimmed[:min(len(trimmed), 40)])))
	default:
		s, err = sitemapText(buffered)
	}
	if err == nil && declared > 0 && !bytes.HasPrefix(bytes.TrimPrefix(start, []byte("\xef\xbb\xbf")), []byte("<?xml")) {
		err = errors.New("white space stands before its XML declaration, which must come first (XML 1.0 §2.8)")
	}
	if bounded.N == 0 {
		return s, fmt.Errorf("it is larger than %d MiB", maxSitemapBytes>>20)
	}
	return s, err
}

// sitemapNamespace is that of sitemaps.org 0.9.
const sitemapNamespace = "http://www.sitemaps.org/schemas/sitemap/0.9"

func sitemapXML(r io.Reader) (*sitemap, error) {
	s := &sitemap{}
	decoder := xml.NewDecoder(r)
	depth, known := 0, false
	var within []string
	var strange error
	for {
		token, err := decoder.Token()
		if errors.Is(err, io.EOF) {
			if !known {
				return s, errors.New("it is no sitemap and no feed")
			}
			return s, strange
		}
		if err != nil {
			return s, fmt.Errorf("it is not well-formed: %w", err)
		}
		switch t := token.(type) {
		case xml.StartElement:
			if depth++; depth > 50 {
				return s, errors.New("it is nested too deep")
			}
			within = append(within, t.Name.Local)
			if depth == 1 {
				known = slices.Contains([]string{"urlset", "sitemapindex", "rss", "feed", "RDF"}, t.Name.Local)
				s.index = t.Name.Local == "sitemapindex"
				if (s.index || t.Name.Local == "urlset") && t.Name.Space != sitemapNamespace {
					strange = fmt.Errorf("its namespace is %q and not %q", truncated(t.Name.Space), sitemapNamespace)
				}
			}
			if t.Name.Local == "link" && depth == 3 {
				for _, a := range t.Attr {
					if a.Name.Local == "href" {
						s.addresses = append(s.addresses, a.Value)
					}
				}
			}
		case xml.EndElement:
			depth--
			within = within[:len(within)-1]
		case xml.CharData:
			if depth != 3 && depth != 4 || (within[depth-1] != "loc" && within[depth-1] != "link") || within[depth-2] == "image" {
				continue
			}
			if text := strings.TrimSpace(string(t)); text != "" {
				s.addresses = append(s.addresses, text)
			}
		}
		if len(s.addresses) > maxSitemapAddresses {
			return s, fmt.Errorf("it names more than %d addresses", maxSitemapAddresses)
		}
	}
}

func sitemapText(r io.Reader) (*sitemap, error) {
	s := &sitemap{}
	scanner := bufio.NewScanner(r)
	for scanner.Scan() {
		line := strings.TrimSpace(scanner.Text())
		if line == "" {
			continue
		}
		if u, err := url.Parse(line); err != nil || u.Host == "" {
			return s, fmt.Errorf("%q is no address", truncated(line))
		}
		if s.addresses = append(s.addresses, line); len(s.addresses) > maxSitemapAddresses {
			return s, fmt.Errorf("it names more than %d addresses", maxSitemapAddresses)
		}
	}
	if len(s.addresses) == 0 && scanner.Err() == nil {
		return s, errors.New("there is nothing in it")
	}
	return s, scanner.Err()
}

func truncated(text string) string {
	if len(text) > 80 {
		return text[:80] + "…"
	}
	return text
}

// A feed is RSS or Atom (RFC 4287), as far as it matters here.
type feed struct {
	items int
	reply string // the address its readers reply to
	maker string // what it says made it
}

func parseFeed(data []byte) (*feed, error) {
	f := &feed{}
	decoder := xml.NewDecoder(bytes.NewReader(data))
	known, depth := false, 0
	var last string
	for {
		token, err := decoder.Token()
		if errors.Is(err, io.EOF) {
			if !known {
				return nil, errors.New("it is no feed")
			}
			return f, nil
		}
		if err != nil {
			return nil, fmt.Errorf("it is not well-formed: %w", err)
		}
		switch t := token.(type) {
		case xml.StartElement:
			if depth++; depth > 50 {
				return nil, errors.New("it is nested too deep")
			}
			last = t.Name.Local
			if depth == 1 {
				known = last == "rss" || last == "feed" || last == "RDF"
			}
			if last == "item" || last == "entry" {
				f.items++
			}
			if last == "generator" && f.maker == "" {
				for _, a := range t.Attr {
					if a.Name.Local == "version" {
						f.maker = "version " + strings.TrimSpace(a.Value)
					}
				}
			}
		case xml.EndElement:
			depth--
			last = ""
		case xml.CharData:
			if text := strings.TrimSpace(string(t)); last == "generator" && text != "" {
				f.maker = strings.TrimSpace(facts.Shorten(text, maxText) + " " + f.maker)
			} else if f.reply == "" && strings.Contains(text, "@") && (last == "managingEditor" || last == "email" || last == "author") {
				f.reply, _, _ = strings.Cut(text, " ")
			}
		}
	}
}
