package demo

import (
	"fmt"
	"os"
	"os/user"
	"strconv"
	"strings"
	"time"
)

// lanternLaneAligned is the theatre's site as it ought to be, on which an audit has nothing to report.
func lanternLaneAligned() *installation {
	return &installation{
		folder:    "lantern-lane-aligned",
		system:    brindle{},
		constants: map[string]string{"BRINDLE_DEBUG": "false", "BRINDLE_EDIT_CODE": "false"},
		secret:    "an invented key of the demo and not a secret at all",
		options: map[string]string{
			"site_title": "Lantern Lane", "tagline": "Puppet shows for small people and their grown-ups",
			"title_form_home": "Puppet shows <sep> Family theatre <sep> <site>", "title_form_page": "<page> <sep> <site>",
			"title_form_list": "<list> <sep> <site>", "title_sep": "|",
			"lang": "en-GB", "zone": "Europe/London", "icon": "/media/icon.png", "logo": "/media/logo.png",
			"footer_line": "© " + strconv.Itoa(time.Now().UTC().Year()) + " Lantern Lane Puppet Theatre",
			"public_url":  "https://www.lanternlane.example", "install_url": "https://www.lanternlane.example", "one_address": "yes", "theme_charset": "utf-8", "theme_viewport": "width=device-width, initial-scale=1",
			"admin_mail": "office@lanternlane.example", "mail_name": "Lantern Lane", "mail_from": "post@lanternlane.example",
			"front": "page", "front_page": "welcome", "splash": "no", "page_missing": "not-here", "page_error": "sorry",
			"page_search": "find", "page_signin": "stage-door", "default_topic": "news",
			"comments": "open", "comments_pages": "closed", "comments_held": "yes",
			"description": "Hand-made puppet shows for families in a converted lamp works: matinees every weekend, workshops in the holidays.",
			"keywords":    "puppet theatre, family shows, workshops", "show_author": "no", "show_maker": "no", "verify": "LL-7Q2M-DEMO",
			"card_image": "/media/card.png", "cards": "yes", "structured": "yes",
			"hidden": "no", "nofollow": "no", "sitemap": "yes", "list_authors": "no", "list_dates": "no", "list_files": "no", "list_search": "no",
			"feed_items": "20", "feed_full": "no", "feed_reply": "post@lanternlane.example", "notify": "yes",
			"address_form": "/<name>/", "topic_prefix": "", "address_suffix": "", "rewriting": "yes",
			"cache": "yes", "cache_objects": "yes", "cache_queries": "yes", "cache_warm": "yes", "cache_marks": "no", "cache_minutes": "60",
			"compress": "yes", "minify": "yes",
			"register": "open", "register_role": "reader", "register_confirm": "yes", "signin_path": "/stage-door", "signin_tries": "5",
			"second_step": "required", "idle_minutes": "30", "upload_from": "writer", "upload_types": "jpg png webp pdf", "upload_kb": "8192",
			"debug": "no", "show_errors": "no", "mail_posting": "no", "report_usage": "no", "version": "3.4.2",
			"closed": "no", "closed_text": "Lantern Lane is changing the scenery and will be back within the hour. Questions: post@lanternlane.example",
			"closed_mail": "post@lanternlane.example", "locked": "no",
		},
		accounts:   []account{{"juniper-fold", "keeper"}, {"tobit-arkle", "editor"}, {"maren-os", "writer"}},
		extensions: []extension{{"seating", "tickets", "2.3.1", "2.3.1", true}, {"swiftpages", "page-cache", "1.8.0", "1.8.0", true}},
		pages:      lanternLanePages(),
		folders: map[string]os.FileMode{
			"data": 0o750, "logs": 0o750, "system": 0o755, "extensions": 0o755, "extensions/seating": 0o755, "public": 0o755,
			"public/media": 0o755, "public/media/2026": 0o755, "public/cache": 0o755, "public/themes": 0o755, "public/themes/lantern": 0o755,
		},
		files: map[string]file{
			"config.php":                      {mode: 0o440},
			"system/brindle.php":              {"<?php\n// The content system itself would stand here; the demo needs only its place.\n", 0o644},
			"system/LICENCE.txt":              {"Brindle is invented. So is this licence.\n", 0o644},
			"extensions/seating/seating.php":  {"<?php\n// Sells tickets by the seat.\n", 0o644},
			"logs/brindle.log":                {"2026-11-20 09:14:02 signed in: juniper-fold\n", 0o640},
			"public/index.php":                {"<?php\nrequire __DIR__ . '/../system/brindle.php';\n", 0o644},
			"public/.htaccess":                {"RewriteEngine On\nRewriteCond %{REQUEST_FILENAME} !-f\nRewriteRule ^ index.php [L]\n", 0o644},
			"public/themes/lantern/style.css": {"body{font:1rem/1.5 sans-serif;color:#2b2118;background:#fdf8ef}\n", 0o644},
			"public/themes/lantern/lamp.js":   {"document.documentElement.classList.add('lit')\n", 0o644},
			"public/media/icon.png":           {picture(64, 64), 0o644},
			"public/media/logo.png":           {picture(200, 200), 0o644},
			"public/media/card.png":           {picture(1200, 630), 0o644},
			"public/media/2026/wolf.txt":      {"The wolf of the winter show, seen from the side.\n", 0o644},
			"public/cache/front.html":         {"<!doctype html><title>Lantern Lane</title>\n", 0o644},
		},
		siteFile: lanternLaneSiteFile("lantern-lane-aligned"),
	}
}

func lanternLanePages() []page {
	return []page{
		{"welcome", "Welcome", "page", "public", "2026-06-01 10:00", "Puppet shows, workshops and a very small café in a converted lamp works on Lantern Lane.", "The lamps are lit, the strings are waxed, and the wolf has had his breakfast."},
		{"about", "About the theatre", "page", "public", "2026-06-01 10:00", "Who we are, how an old lamp works became a stage for puppets, and who carves them.", "Nine volunteers, sixty-one puppets and one leaking roof."},
		{"contact", "Contact and how to find us", "page", "public", "2026-06-01 10:00", "Where the theatre is, when somebody answers the telephone, and how to reach us by post.", "We are at the bottom of Lantern Lane, behind the bakery."},
		{"privacy", "Privacy", "page", "public", "2026-06-01 10:00", "What we keep of you when you book a seat, for how long, and how to have it removed.", "We keep your name and your seat until the curtain falls."},
		{"tickets", "Tickets and seats", "page", "public", "2026-06-01 10:00", "Prices, cushions for the front row, and how to book seats for schools and birthdays.", "Children four, grown-ups seven, wolves free."},
		{"stage-door", "Stage door", "page", "public", "2026-06-01 10:00", "Sign in for volunteers and members of the Lantern Lane puppet theatre.", ""},
		{"not-here", "Not here", "page", "public", "2026-06-01 10:00", "", "This page has left the stage."},
		{"sorry", "Something fell over", "page", "public", "2026-06-01 10:00", "", "Something behind the scenes fell over. Please try again in a minute."},
		{"find", "Find", "page", "public", "2026-06-01 10:00", "", ""},
		{"winter-wolf", "The winter wolf opens in December", "post", "public", "2026-11-02 09:00", "Our new winter show: a wolf who is afraid of snow, seven lanterns and a great deal of felt.", `A wolf who is afraid of snow goes looking for the summer. <a href="/attachment/wolf/">See him</a>, or <a href="/find/?q=wolf">find more of him</a>.`},
		{"holiday-workshop", "Holiday workshop: make a shadow puppet", "post", "public", "2026-10-19 09:00", "Two mornings for children from six: cut, string and light a shadow puppet of your own.", "Bring an apron and somebody to clap."},
		{"sixty-puppets", "Sixty puppets and one more", "post", "public", "2026-09-28 09:00", "The carver has finished our sixty-first puppet, and it is a very small magistrate.", "He has a wig and opinions."},
		{"advent-matinees", "Advent matinees", "post", "scheduled", "2026-11-29 08:00", "Extra matinees on the four Sundays of Advent, with hot apple juice afterwards.", "Four Sundays, eight shows."},
		{"new-year-closing", "Closed over the new year", "post", "scheduled", "2026-12-27 08:00", "The theatre rests from 28 December to 5 January; the box office answers by post.", "The wolf sleeps."},
	}
}

func lanternLaneSiteFile(folder string) string {
	return siteFile(folder, "brindle",
		"site: Lantern Lane Puppet Theatre",
		"intent:",
		"  stage: live                     # building | live | retiring",
		"  address: https://www.lanternlane.example",
		"  purpose: community              # brochure | shop | magazine | community",
		"  stands_behind: organisation     # or person",
		"  brand: Lantern Lane",
		"  words: [puppet shows, family theatre]",
		`  separator: "|"`,
		"  authors: several                # or one",
		"  language: en-GB",
		"  time_zone: Europe/London",
		"  hosting: shared                 # or own",
		"  mail_domains: [lanternlane.example]",
		"  building_hosts: [new.lanternlane.example]",
		"  tokens: [LL-7Q2M-DEMO]")
}

// siteFile is the site file of one of the demo's sites, with the lines of its intent.
func siteFile(folder, dialect string, intent ...string) string {
	lines := append([]string{"# What this site is meant to be, and where Weltaxis may look."}, intent...)
	// The demo's files belong to whoever wrote them, so that is who its web server would run as.
	if u, err := user.Current(); err == nil && !strings.ContainsAny(u.Username, `\"`) {
		lines = append(lines, `  web_user: "`+u.Username+`"`)
	}
	lines = append(lines,
		"sources:",
		"  settings: {dialect: "+dialect+", root: ./site}",
		"  live:",
		"    own: true                     # I may look at paths nobody links to",
		"    rate: 0                       # as fast as it answers",
		"    connect:                      # where the demo's server listens")
	for _, site := range servedSites {
		if site.folder == folder {
			for _, host := range site.hosts {
				lines = append(lines, fmt.Sprintf("      %q: %q", host+":443", site.https), fmt.Sprintf("      %q: %q", host+":80", site.http))
			}
		}
	}
	lines = append(lines,
		"    trust: ../"+caName,
		"  files:    {root: ./site}",
		"")
	return strings.Join(lines, "\n")
}

// A leaving is something the building weeks left behind: what happened, and what it did to the site.
type leaving struct {
	tells string
	rules []string // that should notice
	do    func(*installation)
}

// lanternLaneLeavings tell the story of the theatre's site, in the order in which it happened.
var lanternLaneLeavings = []leaving{
	{"Juniper, a volunteer, installed Brindle on a wet Sunday in May and clicked Next until it ran. The title and the tagline of the install are still there.",
		[]string{"titles.site-own", "titles.tagline-own"},
		func(b *installation) {
			b.set("site_title", "My Brindle site", "tagline", "Another place made with Brindle")
		}},
	{"The installer asked for a name and offered “admin”. Later Tobit wanted the keys as well and called himself after the theatre.",
		[]string{"hardening.admin-name"},
		func(b *installation) {
			b.accounts = append([]account{{"admin", "keeper"}, {"lanternlane", "keeper"}}, b.accounts...)
		}},
	{"It also wanted a mailbox. Juniper gave her own; the theatre did not have one yet. Mail to members still goes out in the install's name.",
		[]string{"identity.admin-mail", "identity.sender"},
		func(b *installation) {
			b.set("admin_mail", "juniper.fold@quickpost.example", "mail_name", "Brindle", "mail_from", "noreply@install.example")
		}},
	{"The key that signs sessions was to be changed before opening. The comment that said so is gone; the key is not.",
		[]string{"hardening.secret"},
		func(b *installation) { b.secret = "please change this before you open the doors" }},
	{"The site grew under a temporary name and without encryption. On opening night the address was changed in one of two fields, and typed without the www and the s.",
		[]string{"identity.address", "identity.install-address", "visibility.one-host", "visibility.sitemap-urls"},
		func(b *installation) {
			b.set("public_url", "http://lanternlane.example", "install_url", "http://new.lanternlane.example", "one_address", "no")
		}},
	{"Search engines were asked to stay away until opening night. Nobody has asked them back.",
		[]string{"visibility.index-live", "visibility.index-declared"},
		func(b *installation) { b.set("hidden", "yes") }},
	{"One evening nothing worked, so debug mode went on in config.php. The switch on the administration pages says off, and has no say.",
		[]string{"hardening.debug-off"},
		func(b *installation) { b.constants["BRINDLE_DEBUG"] = "true" }},
	{"The same evening somebody on the telephone said “set everything to 777”. Not everything was, but the configuration and the uploads were, and the programs were given to the group.",
		[]string{"permissions.config-locked", "permissions.not-world-writable", "permissions.group-write-limited"},
		func(b *installation) {
			b.chmod(0o666, "config.php")
			b.chmod(0o777, "public/media", "public/media/2026")
			b.chmod(0o664, "system/brindle.php", "extensions/seating/seating.php")
			b.chmod(0o775, "extensions", "extensions/seating")
		}},
	{"The style sheet came off a memory stick on which every file can be run.",
		[]string{"permissions.files"},
		func(b *installation) {
			b.chmod(0o755, "public/themes/lantern/style.css", "public/themes/lantern/lamp.js")
		}},
	{"To see whether uploads work, a three-line program was put among the pictures. They do.",
		[]string{"permissions.uploads-inert"},
		func(b *installation) {
			b.files["public/media/2026/upload-test.php"] = file{"<?php\necho 'it works';\n", 0o644}
		}},
	{"Before the move to the new server the database was dumped, into the nearest folder. The public one.",
		[]string{"permissions.private-outside"},
		func(b *installation) {
			b.files["public/lanternlane-2026-09-02.sql"] = file{"-- a dump of the theatre's database would stand here\n", 0o644}
		}},
	{"Tobit made a page called Welcome for the front. It was never assigned, so visitors meet the newest post.",
		[]string{"identity.home-assigned"},
		func(b *installation) { b.set("front", "stream", "front_page", "") }},
	{"Titles of inner pages were typed with a hyphen, from the look of another site; the theatre's separator is an upright stroke.",
		[]string{"titles.separator-declared"},
		func(b *installation) { b.set("title_form_page", "<page> - <site>") }},
	{"Two posts are scheduled for eight in the morning. The site believes it is in no country at all.",
		[]string{"identity.time-zone-scheduled", "identity.time-zone"},
		func(b *installation) { b.set("zone", "UTC") }},
	{"The description for search engines was left for the end. The end came.",
		[]string{"metadata.site-description"},
		func(b *installation) { b.set("description", "This is a Brindle site.") }},
	{"A search engine sent a whole tag to prove whose site it is. The whole tag went into the field.",
		[]string{"metadata.verification", "metadata.verification-form"},
		func(b *installation) { b.set("verify", `<meta name="proof-of-owner" content="LL-7Q2M-DEMO">`) }},
	{"Addresses are still numbers, because the readable ones did not work on the first server.",
		[]string{"permalinks.readable", "permalinks.served"},
		func(b *installation) { b.set("address_form", "/?entry=<id>") }},
	{"While the volunteers typed in the programme, being signed out was a nuisance, so a session lasts a working day. New members could write at once, to help.",
		[]string{"hardening.session", "hardening.registration-role"},
		func(b *installation) { b.set("idle_minutes", "480", "register_role", "writer") }},
	{"The closed sign was never used, and nobody has read what it says.",
		[]string{"maintenance.message"},
		func(b *installation) { b.set("closed_text", "Closed. Come back later.") }},
}

// lanternLane is the site as its owner left it after the building weeks.
func lanternLane() *installation {
	b := lanternLaneAligned()
	b.folder = "lantern-lane"
	b.siteFile = lanternLaneSiteFile(b.folder)
	for _, l := range lanternLaneLeavings {
		l.do(b)
	}
	return b
}
