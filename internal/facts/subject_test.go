package facts

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestSubjectsOfAcceptances(t *testing.T) {
	many := &Class{Role: "uploads", Kind: "file", Count: 40, Paths: []string{"uploads/a.jpg", "uploads/b.jpg", "uploads/c/d.jpg"}, Under: "uploads"}
	spread := &Class{Role: "other", Kind: "file", Count: 40, Paths: []string{"uploads/a.jpg", "uploads/b.jpg", "uploads/c/d.jpg"}, Under: "."}
	few := &Class{Role: "other", Kind: "file", Count: 2, Paths: []string{"works/a.php", "works/b.php"}, Under: "works"}
	one := &Class{Role: "config", Kind: "file", Count: 1, Paths: []string{"etc/config.php"}, Single: true}
	page := &Page{Path: "/shop/lamp/"}
	for _, c := range []struct {
		subject string
		item    Item
		is      bool
	}{
		{"*", many, true}, {"uploads/**", many, true}, {"./uploads/**", many, true}, {"up*/**", many, true}, {"uploads/*", many, false}, {"uploads/c/**", many, false}, {"other/**", many, false},
		{"uploads/**", spread, false}, {"**", spread, true}, {"works/*.php", few, true}, {"works/a.php", few, false}, {"works/**", few, true},
		{"etc/config.php", one, true}, {"**/config.php", one, true}, {"config.php", one, false}, {"etc/*", one, true},
		{"/shop/**", page, true}, {"/shop/lamp/", page, true}, {"/shop/*", page, false}, {"/about/", page, false},
	} {
		d := Deviation{Rule: "a.b", Subject: c.item.Subject(), Item: c.item}
		assert.Equal(t, c.is, Acceptance{Rule: "a.b", Subject: c.subject}.Answers(d), "%s for %s", c.subject, c.item.Subject())
		assert.True(t, Acceptance{Rule: "a.b", Subject: d.AcceptAs()}.Answers(d), "what the report says is understood: %s", d.AcceptAs())
	}
	link := Deviation{Rule: "a.b", Subject: "https://www.name.example/old/x"}
	assert.True(t, Acceptance{Rule: "a.b", Subject: "/old/**"}.Answers(link))
	assert.False(t, Acceptance{Rule: "a.b", Subject: "/new/**"}.Answers(link))
}

func TestIsService(t *testing.T) {
	named := []string{"Parcel Post", "webworks.example", ""}
	for service, is := range map[string]bool{
		"parcel-post": true, "ParcelPost": true, "parcels": false, "webworks.example": true, "WEBWORKS.example": true, "https://hooks.webworks.example:8443/in": true,
		"web-works.example": false, "evilwebworks.example": false, "webworks.example.evil.example": false, "": false, "https://": false,
	} {
		assert.Equal(t, is, IsService(service, named), service)
	}
	assert.False(t, IsService("a.example", nil))
}

func TestIsOwnHost(t *testing.T) {
	for host, own := range map[string]bool{"x.example": true, "www.x.example": true, "Static.X.example": true, "ax.example": false, "example": false, "x.example.b.example": false, "": false} {
		assert.Equal(t, own, IsOwnHost(host, "https://www.x.example/"), host)
	}
	assert.False(t, IsOwnHost("x.example", "no address"))
}
