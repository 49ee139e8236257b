package demo

import (
	"maps"
	"os"
	"strconv"
	"time"
)

// neighbour is a well-kept site on another system: what all well-kept sites have, and what is its own.
func neighbour(folder string, on system, own map[string]string) *installation {
	theatre := lanternLaneAligned()
	in := &installation{folder: folder, system: on, secret: theatre.secret, options: maps.Clone(theatre.options),
		folders: map[string]os.FileMode{"logs": 0o750, "public": 0o755, "public/media": 0o755, "public/cache": 0o755, "public/themes": 0o755, "public/themes/" + own["theme"]: 0o755},
		files: map[string]file{
			"logs/visits.log":  {"2026-11-20 09:14:02 somebody came\n", 0o640},
			"public/index.php": {"<?php\n// The content system would start here; the demo needs only its place.\n", 0o644},
			"public/.htaccess": {"RewriteEngine On\nRewriteCond %{REQUEST_FILENAME} !-f\nRewriteRule ^ index.php [L]\n", 0o644},
			"public/themes/" + own["theme"] + "/style.css": {"body{font:1rem/1.5 sans-serif}\n", 0o644},
			"public/media/icon.png":                        {picture(64, 64), 0o644},
			"public/media/logo.png":                        {picture(200, 200), 0o644},
			"public/media/card.png":                        {picture(1200, 630), 0o644},
			"public/cache/front.html":                      {"<!doctype html><title>kept</title>\n", 0o644},
		}}
	maps.Copy(in.options, own)
	in.set("code_editing", "no", "verify", "", "footer_line", "© "+strconv.Itoa(time.Now().UTC().Year())+" "+own["site_title"],
		"public_url", "https://www."+own["domain"], "install_url", "https://www."+own["domain"], "mail_name", own["site_title"],
		"admin_mail", "office@"+own["domain"], "mail_from", "post@"+own["domain"], "feed_reply", "post@"+own["domain"], "closed_mail", "post@"+own["domain"])
	delete(in.options, "domain")
	return in
}

func (in *installation) ostlerModes() {
	for name, mode := range map[string]os.FileMode{"ostler.toml": 0o440, ".env": 0o400} {
		in.files[name] = file{mode: mode}
	}
	for _, folder := range []string{"content", "content/settings", "content/leaves", "content/people", "content/add-ons"} {
		in.folders[folder] = 0o750
	}
}

// hollin is well kept.
func hollin() *installation {
	in := neighbour("hollin", ostler{}, map[string]string{
		"domain": "hollinbees.example", "theme": "comb", "site_title": "Hollin Beekeepers", "tagline": "Honey and bees from the hollin woods",
		"title_form_home": "Local honey <sep> Beekeeping courses <sep> <site>", "writer": "Wenna Dyke", "nav": "about contact privacy honey courses",
		"description": "Honey from eleven apiaries in the hollin woods, beekeeping courses every spring, and a swarm line that answers all summer.",
		"keywords":    "local honey, beekeeping courses, swarms", "topic_about": "swarms, harvests, and what the weather does to heather",
		"page_signin": "hive-gate", "signin_title": "Hive gate", "signin_path": "/hive-gate", "gone": "This page has swarmed.",
		"front_page": "hollin-woods", "default_topic": "from-the-hives", "picture": "skep", "picture_title": "A straw skep", "picture_about": "A straw skep from before the war, as it stands in the porch of the honey house.",
		"closed_text": "Hollin Beekeepers are moving the hives and will be back within the hour. Questions: post@hollinbees.example",
	})
	in.ostlerModes()
	in.accounts = []account{{"wenna-dyke", "keeper"}, {"iddo-marsh", "editor"}, {"petra-loam", "writer"}}
	in.extensions = []extension{{"swarm-line", "add-on", "1.4.0", "1.4.0", true}}
	in.pages = []page{
		{"hollin-woods", "In the hollin woods", "page", "public", "2026-03-01 10:00", "Eleven apiaries, forty keepers and one honey house in the hollin woods above the river.", "The bees fly from March to October, and so do we."},
		{"about", "About the beekeepers", "page", "public", "2026-03-01 10:00", "Who keeps bees in the hollin woods, since when, and how somebody new begins.", "Forty keepers, one of them nine years old."},
		{"contact", "Contact and swarm line", "page", "public", "2026-03-01 10:00", "Whom to ring when a swarm hangs in the pear tree, and where the honey house stands.", "Ring at any hour between May and July."},
		{"privacy", "Privacy", "page", "public", "2026-03-01 10:00", "What we keep of you when you book a course or order honey, and for how long we do.", "We keep your name until the jar is empty."},
		{"honey", "Honey and wax", "page", "public", "2026-03-01 10:00", "Spring honey, lime honey, heather honey and candles of our own wax, from the honey house.", "Three honeys, and none of them alike."},
		{"courses", "Courses for beginners", "page", "public", "2026-03-01 10:00", "Six Saturdays from February with a hive of your own at the end, for anybody over ten.", "Bring gloves. We have the rest."},
		{"hive-gate", "Hive gate", "page", "public", "2026-03-01 10:00", "Sign in for members of the beekeepers and their apprentices.", ""},
		{"not-here", "Not here", "page", "public", "2026-03-01 10:00", "", "This page has swarmed."},
		{"sorry", "Something stung us", "page", "public", "2026-03-01 10:00", "", "Please try again in a minute."},
		{"find", "Find", "page", "public", "2026-03-01 10:00", "", ""},
		{"heather-harvest", "The heather harvest is in", "post", "public", "2026-09-14 09:00", "A dry August made little heather honey, and what there is tastes of smoke and plums.", `Two hundred jars. <a href="/attachment/skep/">Seen from the porch</a>, or <a href="/find/?q=honey">find more</a>.`},
		{"winter-bees", "Winter bees sleep lightly", "post", "public", "2026-11-01 09:00", "What forty thousand bees do between November and March, and why we knock on the hive.", "They hum."},
		{"first-course", "The first course of the year", "post", "scheduled", "2027-01-11 08:00", "Six Saturdays from February: what to bring, where to park, and who makes the soup.", "Bring gloves."},
		{"apple-blossom", "Hives among the apple trees", "post", "public", "2026-05-05 09:00", "Six hives went to the orchards for three weeks, and came back heavier than they left.", "The orchard keeper paid in apples."},
	}
	in.siteFile = siteFile("hollin", "ostler",
		"site: Hollin Beekeepers", "intent:", "  stage: live", "  address: https://www.hollinbees.example", "  purpose: community", "  stands_behind: organisation",
		"  brand: Hollin Beekeepers", "  words: [local honey, beekeeping courses]", `  separator: "|"`, "  authors: several", "  language: en-GB",
		"  time_zone: Europe/London", "  hosting: shared", "  mail_domains: [hollinbees.example]")
	return in
}

// saltmarshLeavings is what stands in the way of a site that is still being built.
var saltmarshLeavings = []leaving{
	{"The seed library is still being built, and search engines were let in on the first day. They have already found the page that says “test test test”.",
		[]string{"visibility.index-building", "visibility.index-building-declared", "visibility.sitemap-withheld", "visibility.sitemap-withheld-declared"},
		func(in *installation) { in.set("hidden", "no", "nofollow", "no", "sitemap", "yes") }},
	{"Whoever set it up chose a motto in a hurry: the one that came with the install.",
		[]string{"titles.tagline-own"},
		func(in *installation) { in.set("tagline", "Words to go by") }},
	{"The clock was left on universal time.",
		[]string{"identity.time-zone"},
		func(in *installation) { in.set("zone", "UTC") }},
	{"The key in .env is the one from the instructions, and anybody on the server may read it.",
		[]string{"hardening.secret", "permissions.config-locked"},
		func(in *installation) { in.secret = "put a long key here"; in.chmod(0o644, ".env") }},
}

func saltmarsh() *installation {
	in := neighbour("saltmarsh", ostler{}, map[string]string{
		"domain": "saltmarshseeds.example", "theme": "pod", "site_title": "Saltmarsh Seed Library", "tagline": "Borrow a seed, bring back two",
		"title_form_home": "Seed library <sep> Seed swaps <sep> <site>", "writer": "Odo Fenn", "nav": "about contact privacy borrow",
		"description": "Borrow the seeds of old vegetables in spring and bring back twice as many in autumn: four hundred kinds on shelves of pickle jars.",
		"keywords":    "seed library, seed swaps, old vegetables", "topic_about": "sowings, swaps, and the beans that would not sprout",
		"page_signin": "potting-shed", "signin_title": "Potting shed", "signin_path": "/potting-shed", "gone": "This page has gone to seed.",
		"front_page": "shelves", "default_topic": "sowings", "picture": "jar", "picture_title": "A jar of beans", "picture_about": "A pickle jar with the speckled beans that four neighbours brought back.",
		"closed_text": "Saltmarsh Seed Library is counting its beans and will be back within the hour. Questions: post@saltmarshseeds.example",
		"hidden":      "yes", "nofollow": "yes", "sitemap": "no", "cache": "no", "cache_objects": "no", "cache_queries": "no", "cache_warm": "no", "idle_minutes": "240", "notify": "no",
	})
	in.ostlerModes()
	in.accounts = []account{{"odo-fenn", "keeper"}, {"bryn-tallow", "editor"}}
	in.pages = []page{
		{"shelves", "The shelves", "page", "public", "2026-10-01 10:00", "Four hundred kinds of seed on nine shelves of pickle jars, and how to borrow from them.", "Beans to the left, leaves to the right."},
		{"about", "About the library", "page", "public", "2026-10-01 10:00", "Who started the seed library on the salt marsh, and why it lends instead of sells.", "It began with one bean."},
		{"contact", "Contact", "page", "public", "2026-10-01 10:00", "When the library is open, where on the marsh it stands, and who answers letters there.", "Saturdays, until it gets dark."},
		{"privacy", "Privacy", "page", "public", "2026-10-01 10:00", "What we write down when you borrow a seed, who may read it, and when we cross it out.", "Your name, the seed and the year."},
		{"borrow", "How to borrow", "page", "public", "2026-10-01 10:00", "Ten seeds of three kinds a year, what to bring back in autumn, and what we do not take.", "Bring back two for one, dry."},
		{"potting-shed", "Potting shed", "page", "public", "2026-10-01 10:00", "Sign in for the keepers of the seed library.", ""},
		{"not-here", "Not here", "page", "public", "2026-10-01 10:00", "", "This page has gone to seed."},
		{"sorry", "Something wilted", "page", "public", "2026-10-01 10:00", "", "Please try again in a minute."},
		{"find", "Find", "page", "public", "2026-10-01 10:00", "", ""},
		{"first-swap", "The first swap of the year", "post", "public", "2026-11-07 09:00", "Bring a jar to the first seed swap on the marsh: tea, beans and an argument about leeks.", `<a href="/attachment/jar/">A jar</a>, or <a href="/find/?q=swap">find more</a>.`},
	}
	in.siteFile = siteFile("saltmarsh", "ostler",
		"site: Saltmarsh Seed Library", "intent:", "  stage: building", "  address: https://www.saltmarshseeds.example", "  purpose: community", "  stands_behind: organisation",
		"  brand: Saltmarsh Seed Library", "  words: [seed library, seed swaps]", `  separator: "|"`, "  authors: one", "  language: en-GB",
		"  time_zone: Europe/London", "  hosting: own", "  mail_domains: [saltmarshseeds.example]")
	for _, l := range saltmarshLeavings {
		l.do(in)
	}
	return in
}

// copperbeckAligned is the shop as it ought to be.
func copperbeckAligned() *installation {
	in := neighbour("copperbeck-aligned", hobnail{}, map[string]string{
		"domain": "copperbeck.example", "theme": "lock", "site_title": "Copperbeck Canal Trust", "tagline": "A canal and what keeps it wet", "version": "4.2.0",
		"title_form_home": "Canal maps <sep> Boat ropes <sep> <site>", "writer": "Maud Tarn", "nav": "about contact privacy ropes maps",
		"description": "Maps, ropes, windlasses and mugs from the keepers of the Copperbeck canal. Whatever you buy here goes into a lock gate.",
		"keywords":    "canal maps, boat ropes, windlasses", "topic_about": "new goods, mended gates, and who fell in this month",
		"page_signin": "lock-house", "signin_title": "Lock house", "signin_path": "/lock-house", "gone": "This page has drifted off.",
		"front_page": "counter", "default_topic": "towpath", "picture": "windlass", "picture_title": "A windlass", "picture_about": "A windlass of ash and iron, as the smith at the third lock makes them.",
		"closed_text": "Copperbeck Canal Trust is draining the shop and will be back within the hour. Questions: post@copperbeck.example",
	})
	in.folders["data"], in.folders["engine"], in.folders["etc"] = 0o750, 0o755, 0o750
	in.files["engine/hobnail.php"] = file{"<?php\n// The content system itself would stand here; the demo needs only its place.\n", 0o644}
	for _, name := range []string{"hobnail.ini", "etc/delivery.xml", "etc/counter.conf", "etc/clerk.properties"} {
		in.files[name] = file{mode: 0o440}
	}
	in.accounts = []account{{"maud-tarn", "keeper"}, {"silas-weir", "editor"}, {"ada-cope", "writer"}}
	in.extensions = []extension{{"till", "part", "2.0.3", "2.0.3", true}, {"lock", "skin", "1.1.0", "1.1.0", true}}
	in.pages = []page{
		{"counter", "The counter", "page", "public", "2026-04-01 10:00", "Maps, ropes, windlasses and mugs: everything on the counter of the canal trust.", "Ring the bell if nobody comes."},
		{"about", "About the trust", "page", "public", "2026-04-01 10:00", "Who keeps sixteen miles of canal wet with thirty volunteers and one old dredger.", "Sixteen miles, eleven locks, one dredger."},
		{"contact", "Contact and opening hours", "page", "public", "2026-04-01 10:00", "Where the lock house is, when the counter is open, and how to write to the trust.", "At the third lock, left bank."},
		{"privacy", "Privacy", "page", "public", "2026-04-01 10:00", "What we keep of you when you buy a rope, for how long, and how to have it removed.", "Your address, until the parcel has come."},
		{"ropes", "Ropes and fenders", "page", "public", "2026-04-01 10:00", "Mooring ropes, centre lines and fenders, spliced at the lock house by people who use them.", "By the metre, or spliced."},
		{"maps", "Maps of the canal", "page", "public", "2026-04-01 10:00", "The canal in four sheets, with every lock, tap and dry bench between the two basins.", "Four sheets, waterproof."},
		{"lock-house", "Lock house", "page", "public", "2026-04-01 10:00", "Sign in for the volunteers and customers of the canal trust.", ""},
		{"not-here", "Not here", "page", "public", "2026-04-01 10:00", "", "This page has drifted off."},
		{"sorry", "Something sprang a leak", "page", "public", "2026-04-01 10:00", "", "Please try again in a minute."},
		{"find", "Find", "page", "public", "2026-04-01 10:00", "", ""},
		{"new-gates", "New gates at the third lock", "post", "public", "2026-10-12 09:00", "Two oak gates of four tons each went in at the third lock, and nobody got wet feet.", `<a href="/attachment/windlass/">With this</a>, or <a href="/find/?q=lock">find more</a>.`},
		{"winter-stoppage", "Closed to boats until March", "post", "public", "2026-11-08 09:00", "The canal is closed to boats while the second pound is dry; the towpath stays open.", "Walk instead."},
		{"new-sheet", "The fourth sheet of the map", "post", "public", "2026-08-03 09:00", "The fourth sheet of the canal map is printed, with every dry bench from lock nine down.", "Ask for it at the counter."},
		{"spring-sale", "Ropes for the spring", "post", "scheduled", "2027-03-01 08:00", "New ropes for the new season, ten per cent off until Easter for anybody with a boat.", "All lengths."},
	}
	in.siteFile = copperbeckSiteFile(in.folder)
	return in
}

func copperbeckSiteFile(folder string) string {
	return siteFile(folder, "hobnail",
		"site: Copperbeck Canal Trust", "intent:", "  stage: live", "  address: https://www.copperbeck.example", "  purpose: shop", "  stands_behind: organisation",
		"  brand: Copperbeck Canal Trust", "  words: [canal maps, boat ropes]", `  separator: "|"`, "  authors: several", "  language: en-GB",
		"  time_zone: Europe/London", "  hosting: own", "  mail_domains: [copperbeck.example]", "  building_hosts: [shop.copperbeck.example]")
}

// copperbeckLeavings tell how the shop came to be as it is.
var copperbeckLeavings = []leaving{
	{"The trust's treasurer set the shop up and left its name for later.",
		[]string{"titles.site-own", "titles.inner-own", "titles.inner-site"},
		func(in *installation) { in.set("site_title", "Our new shop") }},
	{"The blurb for search engines is the maker's.",
		[]string{"metadata.site-description", "metadata.description-length"},
		func(in *installation) { in.set("description", "A shop made with Hobnail.") }},
	{"Certificates cost money once, so the shop was put up without encryption, and has stayed there.",
		[]string{"identity.address", "identity.install-address", "visibility.one-host", "visibility.index-live"},
		func(in *installation) {
			in.set("public_url", "http://www.copperbeck.example", "install_url", "http://shop.copperbeck.example", "one_address", "no")
		}},
	{"Debugging was switched on when the till would not open. It opens now.",
		[]string{"hardening.debug-off"},
		func(in *installation) { in.set("debug", "yes", "show_errors", "yes") }},
	{"Anybody who signs up may write pages, because the first three who did were volunteers.",
		[]string{"hardening.registration-role"},
		func(in *installation) { in.set("register_role", "writer") }},
	{"The sign behind the shutter has never been read.",
		[]string{"maintenance.message"},
		func(in *installation) { in.set("closed_text", "Back soon.") }},
	{"The configuration was left open for the next change.",
		[]string{"permissions.config-locked", "permissions.group-write-limited", "permissions.files"},
		func(in *installation) { in.chmod(0o664, "hobnail.ini") }},
}

func copperbeck() *installation {
	in := copperbeckAligned()
	in.folder = "copperbeck"
	in.siteFile = copperbeckSiteFile(in.folder)
	for _, l := range copperbeckLeavings {
		l.do(in)
	}
	return in
}
