package live

import (
	"encoding/json"
	"maps"
	"slices"
	"strings"
)

// required is Weltaxis's own list of what structured data of a type should have to be of use; schema.org itself
// requires nothing. A field may be given as alternatives with a stroke between.
var required = map[string][]string{
	"Organization":   {"name", "url", "logo"},
	"Person":         {"name", "url"},
	"WebSite":        {"name", "url"},
	"Article":        {"headline", "datePublished", "author"},
	"Product":        {"name", "image", "offers|review|aggregateRating"},
	"Event":          {"name", "startDate", "location"},
	"BreadcrumbList": {"itemListElement"},
	"FAQPage":        {"mainEntity"},
	"LocalBusiness":  {"name", "address"},
}

// parents leads from the commonest subtypes of schema.org to the type whose list counts.
var parents = map[string]string{
	"NewsArticle": "Article", "BlogPosting": "Article", "Report": "Article", "TechArticle": "Article",
	"Corporation": "Organization", "NGO": "Organization", "EducationalOrganization": "Organization", "PerformingGroup": "Organization",
	"TheaterGroup": "Organization", "SportsOrganization": "Organization", "GovernmentOrganization": "Organization",
	"Store": "LocalBusiness", "Restaurant": "LocalBusiness", "ProfessionalService": "LocalBusiness",
	"TheaterEvent": "Event", "MusicEvent": "Event", "ChildrensEvent": "Event", "Festival": "Event",
}

// structuredData reads JSON-LD blocks: the types they hold (with the type whose list counts), the fields those
// lack as Type.field, the address of an organisation's logo, and how many blocks do not parse.
func structuredData(blocks []string) (kinds, lacks []string, logo string, bad int) {
	for _, block := range blocks {
		var value any
		if err := json.Unmarshal([]byte(block), &value); err != nil {
			bad++
			continue
		}
		nodes := graph(value, nil)
		byID := map[string]map[string]any{}
		for _, node := range nodes {
			if id, ok := node["@id"].(string); ok && len(node) > 1 {
				byID[id] = node
			}
		}
		for _, node := range nodes {
			for _, kind := range typesOf(node) {
				kinds = append(kinds, kind)
				if parent, sub := parents[kind]; sub {
					kinds = append(kinds, parent)
					kind = parent
				}
				lacks = append(lacks, lacking(kind, node)...)
				if kind == "Organization" && logo == "" {
					logo = addressIn(node["logo"], byID)
				}
			}
		}
	}
	return distinct(kinds), distinct(lacks), logo, bad
}

// maxNodes bounds how much of a graph is looked at.
const maxNodes = 1000

// graph lists the nodes of a block: one, several, or those of @graph.
func graph(value any, nodes []map[string]any) []map[string]any {
	if len(nodes) >= maxNodes {
		return nodes
	}
	switch v := value.(type) {
	case []any:
		for _, item := range v {
			nodes = graph(item, nodes)
		}
	case map[string]any:
		if inner, there := v["@graph"]; there {
			return graph(inner, nodes)
		}
		nodes = append(nodes, v)
	}
	return nodes
}

func typesOf(node map[string]any) []string {
	var kinds []string
	add := func(text string) {
		kinds = append(kinds, text[strings.LastIndexAny(text, "/#:")+1:])
	}
	switch t := node["@type"].(type) {
	case string:
		add(t)
	case []any:
		for _, item := range t {
			if text, ok := item.(string); ok {
				add(text)
			}
		}
	}
	return kinds
}

func lacking(kind string, node map[string]any) []string {
	var lacks []string
	for _, field := range required[kind] {
		has := slices.ContainsFunc(strings.Split(field, "|"), func(name string) bool { v, there := node[name]; return there && v != "" && v != nil })
		if !has {
			lacks = append(lacks, kind+"."+strings.ReplaceAll(field, "|", " or "))
		}
	}
	return lacks
}

// addressIn is the address of a picture given as text, as an object, or by reference.
func addressIn(value any, byID map[string]map[string]any) string {
	switch v := value.(type) {
	case string:
		return v
	case []any:
		if len(v) > 0 {
			return addressIn(v[0], nil)
		}
	case map[string]any:
		for _, key := range []string{"url", "contentUrl"} {
			if text, ok := v[key].(string); ok {
				return text
			}
		}
		if id, ok := v["@id"].(string); ok && byID[id] != nil {
			return addressIn(byID[id], nil)
		}
	}
	return ""
}

func distinct(list []string) []string {
	set := map[string]bool{}
	for _, item := range list {
		set[item] = true
	}
	return slices.Sorted(maps.Keys(set))
}
