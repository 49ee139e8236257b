package demo

import (
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"weltaxis/internal/format"
	"weltaxis/internal/store"
)

func storeOptions(root string) store.Options { return store.Options{Root: root} }

// A layout is one more invented content system, for discovery alone: other words for keys, other nesting,
// prefixes and spellings. The thesaurus was not made for them.
type layout struct {
	name  string
	write func(t *testing.T, root string) map[string]string // and where each setting is
}

// layouts are in English with many words, in clipped English, in German, in French, and in camel case; then files without a
// telling ending, and programs.
var layouts = []layout{
	{"wordy English in a table", func(t *testing.T, root string) map[string]string {
		writeText(t, root, "app/config/database.ini", "[database]\nengine = sqlite\nfilename = var/site.sqlite\ntable_prefix = wx7_\n")
		return writeKeyValues(t, root, "var/site.sqlite", "wx7_configuration", map[string]string{
			"site_name": "A Mill by the Water|site.title", "site_slogan": "Flour and bread since the flood|site.tagline", "default_language": "en_GB|site.language",
			"default_timezone": "Europe/London|site.time_zone", "webmaster_email": "mill@mill.example|mail.admin", "outgoing_mail_from_name": "The Mill|mail.sender_name",
			"outgoing_mail_from_address": "no-reply@mill.example|mail.sender_address", "canonical_site_url": "https://www.mill.example|site.address", "favicon_path": "/img/fav.png|site.icon",
			"logo_image": "/img/wheel.svg|site.logo", "seo_meta_description": "Flour from a mill by the water, and bread on Saturdays.|meta.description", "seo_meta_keywords": "flour, bread, mill|meta.keywords",
			"seo_home_title_template": "{site} {sep} {slogan}|title.home", "seo_page_title_template": "{title} {sep} {site}|title.inner", "seo_title_separator": "|·title.separator",
			"hide_from_robots": "0|meta.robots_index", "generate_xml_sitemap": "1|sitemap.offered", "rss_item_count": "15|feed.items", "rss_show_full_text": "0|feed.full",
			"post_url_structure": "/{year}/{slug}/|permalink.pattern", "use_pretty_urls": "1|permalink.rewriting", "page_cache_enabled": "1|cache.page", "object_cache_enabled": "0|cache.object",
			"cache_expiry_seconds": "7200|cache.lifetime", "enable_gzip_compression": "1|delivery.compression", "minify_assets": "0|delivery.minify", "allow_user_registration": "0|registration.open",
			"require_email_confirmation": "1|registration.confirm_mail", "max_login_attempts": "5|login.attempts", "login_url_path": "/enter|login.path", "session_timeout_minutes": "30|session.idle",
			"allowed_upload_extensions": "jpg,png,pdf|upload.types", "max_upload_size_kb": "4096|upload.size", "debug_mode": "0|debug.on", "display_errors_to_visitors": "0|debug.errors_shown",
			"maintenance_mode": "0|maintenance.on", "maintenance_mode_message": "The wheel stands still until noon.|maintenance.message", "comments_enabled": "1|comments.open", "comment_moderation": "1|comments.moderated",
			"application_secret_key": "an invented key for a test and nothing else|security.secret", "application_version": "3.1.4|system.version", "send_usage_statistics": "0|usage.reporting",
			"not_found_page_slug": "nothing-here|page.not_found", "homepage_slug": "welcome|front.page", "copyright_notice": "© 2026 The Mill|site.copyright",
			"last_cron_run": "1764000000", "items_per_page": "10", "theme_name": "stone", "admin_menu_order": "3,1,2", "smtp_port": "587", "thumbnail_width": "150"})
	}},
	{"clipped English in env and INI", func(t *testing.T, root string) map[string]string {
		truth := writeLines(t, root, ".env", "env", "", []string{"FERN_NAME='Fern & Son'|site.title", "FERN_URL=https://www.fern.example|site.address", "FERN_DEBUG=false|debug.on",
			"FERN_KEY=an-invented-key-for-a-test-only-0|security.secret", "FERN_TZ=Europe/Dublin|site.time_zone", "FERN_LOCALE=en_IE|site.language", "MAIL_FROM_ADDRESS=post@fern.example|mail.sender_address",
			"MAIL_FROM_NAME='Fern'|mail.sender_name", "SESSION_LIFETIME=45|session.idle", "FTP_PASSWORD=invented|security.transfer_password", "QUEUE=now", "LOG_LEVEL=warn"})
		for k, v := range writeLines(t, root, "conf/site.cfg", "ini", " = ", []string{"[seo]", "desc = Ferns for shady corners, sent by post.|meta.description", "kw = ferns, shade, post|meta.keywords", "robots_idx = on|meta.robots_index",
			"robots_follow = on|meta.robots_follow", "sitemap = on|sitemap.offered", "verif = FX-7731-TEST|meta.verification", "og_img = /img/og.jpg|card.image", "ttl_sep = \"-\"|title.separator", "ttl_home = \"%site% %sep% %tagline%\"|title.home",
			"ttl_page = \"%page% %sep% %site%\"|title.inner", "[perf]", "page_cache = off|cache.page", "cache_ttl = 3600|cache.lifetime", "gzip = on|delivery.compression", "minify = off|delivery.minify", "preload = off|cache.preload",
			"[auth]", "reg_open = off|registration.open", "max_tries = 6|login.attempts", "login_path = /in|login.path", "[upload]", "exts = jpg png webp|upload.types", "max_kb = 2048|upload.size",
			"[maint]", "on = off|maintenance.on", "msg = Watering the ferns. Back at two.|maintenance.message", "mail = post@fern.example|maintenance.contact",
			"[misc]", "fav = /fav.ico|site.icon", "logo = /img/frond.svg|site.logo", "permalink = \"/%slug%/\"|permalink.pattern", "rss_n = 20|feed.items", "rows = 25", "grid = 3", "api_v = 2"}) {
			truth[k] = v
		}
		return truth
	}},
	{"German in PHP", func(t *testing.T, root string) map[string]string {
		return writeLines(t, root, "einstellungen.php", "php", " => ", []string{"<?php", "return [", "'allgemein' => [", "'seitentitel' => 'Die Moorbahn',|site.title", "'untertitel' => 'Mit sechs Kilometern in der Stunde',|site.tagline",
			"'sprache' => 'de',|site.language", "'zeitzone' => 'Europe/Berlin',|site.time_zone", "'adresse' => 'https://www.moorbahn.example',|site.address", "'startseite' => 'willkommen',|front.page", "'logo' => '/bilder/lok.svg',|site.logo",
			"'copyright' => '© 2026 Moorbahn',|site.copyright", "],", "'suchmaschinen' => [", "'beschreibung' => 'Eine Schmalspurbahn durch das Moor, sonntags unter Dampf.',|meta.description", "'schlagworte' => ['Bahn', 'Moor'],|meta.keywords",
			"'verstecken' => false,|meta.robots_index", "'sitemap' => true,|sitemap.offered", "'trennzeichen' => '|',|title.separator", "'titelmuster' => '%titel% %trenner% %seite%',|title.inner", "],", "'post' => [", "'absender_name' => 'Moorbahn',|mail.sender_name",
			"'absender_adresse' => 'bahn@moorbahn.example',|mail.sender_address", "'verwalter' => 'lok@moorbahn.example',|mail.admin", "],", "'kommentare' => [", "'erlaubt' => true,|comments.open", "'freigabe' => true,|comments.moderated", "],",
			"'anmeldung' => [", "'pfad' => '/lokschuppen',|login.path", "'versuche' => 5,|login.attempts", "'zweifaktor' => 'required',|login.second_factor", "'sitzungsdauer_minuten' => 30,|session.idle", "],", "'registrierung' => [", "'offen' => false,|registration.open", "],",
			"'zwischenspeicher' => [", "'seiten' => true,|cache.page", "'dauer_sekunden' => 3600,|cache.lifetime", "'komprimierung' => true,|delivery.compression", "],", "'hochladen' => [", "'endungen' => ['jpg', 'png'],|upload.types", "'groesse_mb' => 4,|upload.size", "],",
			"'wartung' => [", "'aktiv' => false,|maintenance.on", "'nachricht' => 'Der Kessel wird gewaschen. Um vier fahren wir wieder.',|maintenance.message", "'kontakt' => 'bahn@moorbahn.example',|maintenance.contact", "],",
			"'debug' => false,|debug.on", "'geheimschluessel' => 'ein erfundener Schluessel nur fuer einen Test',|security.secret", "'version' => '2.7.1',|system.version", "'spaltenzahl' => 3,", "];"})
	}},
	{"French in YAML", func(t *testing.T, root string) map[string]string {
		return writeLines(t, root, "config/parametres.yaml", "yaml", ": ", []string{"site:", "  nom: Le Moulin à Sel|site.title", "  devise: \"Du sel, du vent, de la patience\"|site.tagline", "  langue: fr|site.language", "  fuseau_horaire: Europe/Paris|site.time_zone",
			"  url: https://www.moulinasel.example|site.address", "  icone: /img/sel.png|site.icon", "  logo: /img/moulin.svg|site.logo", "courriel:", "  administrateur: sel@moulinasel.example|mail.admin", "  expediteur_nom: Le Moulin|mail.sender_name",
			"  expediteur_adresse: ecrire@moulinasel.example|mail.sender_address", "referencement:", "  description: \"Du sel gris et du sel fin, récoltés à la main.\"|meta.description", "  mots_cles: [sel, marais]|meta.keywords", "  indexer: true|meta.robots_index",
			"  plan_du_site: true|sitemap.offered", "  separateur: \"·\"|title.separator", "commentaires:", "  autoriser: false|comments.open", "  moderation: true|comments.moderated", "inscription:", "  ouverte: false|registration.open", "  confirmation: true|registration.confirm_mail",
			"connexion:", "  chemin: /atelier|login.path", "  tentatives: 4|login.attempts", "session:", "  duree_minutes: 20|session.idle", "cache:", "  pages: true|cache.page", "  duree_secondes: 1800|cache.lifetime", "  compression: true|delivery.compression",
			"televersement:", "  types: [jpg, png]|upload.types", "  taille_max: 8M|upload.size", "maintenance:", "  active: false|maintenance.on", "  texte: \"Nous rentrons le sel. À tout à l'heure.\"|maintenance.message", "debogage: false|debug.on",
			"cle_secrete: une cle inventee pour un essai seulement|security.secret", "flux:", "  nombre_articles: 12|feed.items", "lignes_par_page: 30", "couleur: gris"})
	}},
	{"camel case in JSON", func(t *testing.T, root string) map[string]string {
		return writeLines(t, root, "settings.json", "json", ": ", []string{"{", "\"general\": {", "\"siteTitle\": \"Copper & Wick\",|site.title", "\"siteTagline\": \"Lamps for long evenings\",|site.tagline", "\"defaultLocale\": \"en-US\",|site.language", "\"timeZone\": \"America/Halifax\",|site.time_zone",
			"\"publicBaseUrl\": \"https://www.copperwick.example\",|site.address", "\"adminEmail\": \"wick@copperwick.example\",|mail.admin", "\"homePageId\": \"front\",|front.page", "\"faviconUrl\": \"/assets/wick.ico\",|site.icon", "\"footerCopyright\": \"© Copper & Wick 2026\"|site.copyright", "},",
			"\"seo\": {", "\"metaDescription\": \"Oil lamps, wicks and chimneys, mended while you wait.\",|meta.description", "\"metaKeywords\": [\"lamps\", \"wicks\"],|meta.keywords", "\"noIndex\": false,|meta.robots_index", "\"noFollow\": false,|meta.robots_follow", "\"xmlSitemapEnabled\": true,|sitemap.offered",
			"\"indexAuthorArchives\": false,|listing.author_indexed", "\"indexDateArchives\": false,|listing.date_indexed", "\"titleSeparator\": \"–\",|title.separator", "\"homeTitleFormat\": \"<site> <sep> <tagline>\",|title.home", "\"pageTitleFormat\": \"<title> <sep> <site>\",|title.inner",
			"\"openGraphEnabled\": true,|card.shown", "\"openGraphDefaultImage\": \"/assets/lamp.jpg\",|card.image", "\"jsonLdEnabled\": true|structured.shown", "},", "\"mail\": {", "\"senderName\": \"Copper & Wick\",|mail.sender_name", "\"senderEmail\": \"hello@copperwick.example\"|mail.sender_address", "},",
			"\"security\": {", "\"secretKey\": \"an invented key, for a test and nothing else\",|security.secret", "\"sessionTimeoutMinutes\": 25,|session.idle", "\"loginPath\": \"/workshop\",|login.path", "\"maxLoginAttempts\": 5,|login.attempts", "\"twoFactorAuth\": \"offered\",|login.second_factor", "\"allowRegistration\": false,|registration.open", "\"fileEditingDisabled\": true|code.editing", "},",
			"\"performance\": {", "\"pageCache\": true,|cache.page", "\"cacheTtlSeconds\": 900,|cache.lifetime", "\"gzipCompression\": true,|delivery.compression", "\"minifyHtml\": false|delivery.minify", "},",
			"\"uploads\": {", "\"allowedTypes\": [\"jpg\", \"png\"],|upload.types", "\"maxFileSizeMb\": 6|upload.size", "},", "\"maintenance\": {", "\"enabled\": false,|maintenance.on", "\"message\": \"Trimming the wicks. Back by dusk.\"|maintenance.message", "},",
			"\"debug\": false,|debug.on", "\"feedItems\": 10,|feed.items", "\"addressShape\": \"/:year/:slug/\",|permalink.pattern", "\"galleryColumns\": 4,", "\"schemaVersion\": 12", "}"})
	}},
	// These five were written before discovery read a file by its content: two have no ending that tells, two are programs.
	{"English in a program that indents", func(t *testing.T, root string) map[string]string {
		writeText(t, root, "manage.py", "import sys\n\ndef main():\n    title = 'no'\n    return run(sys.argv)\n")
		return writeLines(t, root, "bakery/settings.py", "script", " = ", []string{"\"\"\"Settings of the bakery.\"\"\"", "import os", "BASE = os.path.dirname(__file__)", "DEBUG = False|debug.on", "SECRET_KEY = 'an invented key for a test and nothing else'|security.secret", "TIME_ZONE = 'Europe/London'|site.time_zone",
			"LANGUAGE_CODE = 'en-gb'|site.language", "SITE_NAME = 'Oven & Peel'|site.title", "SITE_TAGLINE = \"Bread while it's warm\"|site.tagline", "PUBLIC_URL = 'https://www.ovenpeel.example'|site.address", "DEFAULT_FROM_EMAIL = 'bread@ovenpeel.example'|mail.sender_address",
			"ADMIN_EMAIL = 'baker@ovenpeel.example'|mail.admin", "META_DESCRIPTION = 'Sourdough, rye and buns from a wood oven, baked before dawn.'|meta.description", "META_KEYWORDS = ['bread', 'rye']|meta.keywords", "ROBOTS_INDEX = True|meta.robots_index",
			"SITEMAP_ENABLED = True|sitemap.offered", "TITLE_SEPARATOR = '-'|title.separator", "CACHE = {", "    'page_cache': True,|cache.page", "    'lifetime_seconds': 600,|cache.lifetime", "    'backend': 'memory',", "}", "SESSION_TIMEOUT_MINUTES = 30|session.idle", "LOGIN_PATH = '/dough'|login.path",
			"MAX_LOGIN_ATTEMPTS = 5|login.attempts", "REGISTRATION_OPEN = False|registration.open", "MAINTENANCE_MODE = False|maintenance.on", "MAINTENANCE_MESSAGE = 'The oven is cooling. Back at five.'|maintenance.message", "UPLOAD_ALLOWED_EXTENSIONS = ['jpg', 'png']|upload.types",
			"MAX_UPLOAD_SIZE_MB = 8|upload.size", "COMMENTS_ENABLED = True|comments.open", "FEED_ITEMS = 15|feed.items", "GZIP_COMPRESSION = True|delivery.compression", "MINIFY_HTML = False|delivery.minify", "ROOT_URLCONF = 'bakery.urls'", "PAGE_SIZE = 20"})
	}},
	{"a module with braces", func(t *testing.T, root string) map[string]string {
		return writeLines(t, root, "server/site.config.js", "script", ": ", []string{"// What the pottery's site is told.", "module.exports = {", "  general: {", "    siteTitle: 'Kiln Street Pottery',|site.title", "    tagline: 'Cups that fit the hand',|site.tagline", "    locale: 'en-GB',|site.language", "    timezone: 'Europe/London',|site.time_zone",
			"    baseUrl: 'https://www.kilnstreet.example',|site.address", "    favicon: '/img/cup.ico',|site.icon", "    logo: '/img/kiln.svg',|site.logo", "  },", "  seo: {", "    description: 'Cups, bowls and classes in a pottery with two kilns and one cat.',|meta.description", "    keywords: ['pottery', 'cups'],|meta.keywords",
			"    noindex: false,|meta.robots_index", "    sitemap: true,|sitemap.offered", "    openGraphImage: '/img/card.jpg',|card.image", "  },", "  mail: {", "    senderName: 'Kiln Street',|mail.sender_name", "    senderAddress: 'hello@kilnstreet.example',|mail.sender_address", "  },", "  security: {", "    sessionSecret: 'an invented key for a test, and only that',|security.secret",
			"    sessionTimeoutMinutes: 20,|session.idle", "    loginPath: '/back-door',|login.path", "    maxLoginAttempts: 4,|login.attempts", "    allowRegistration: false,|registration.open", "  },", "  cache: {", "    pages: true,|cache.page", "    ttlSeconds: 1200,|cache.lifetime", "    gzip: true,|delivery.compression", "  },",
			"  maintenance: {", "    enabled: false,|maintenance.on", "    message: 'The kiln is hot; the site is not. Back by noon.',|maintenance.message", "  },", "  debug: false,|debug.on", "  started: Date.now(),", "  columns: 3,", "};"})
	}},
	{"lines in a file without an ending", func(t *testing.T, root string) map[string]string {
		return writeLines(t, root, "etc/siteconfig", "plain", " = ", []string{"# The ferry's own site.", "site_title = The Little Ferry|site.title", "site_slogan = Over and back since 1911|site.tagline", "language = en-GB|site.language", "timezone = Europe/London|site.time_zone", "public_url = https://www.littleferry.example|site.address",
			"admin_email = captain@littleferry.example|mail.admin", "mail_from_name = The Little Ferry|mail.sender_name", "mail_from_address = ferry@littleferry.example|mail.sender_address", "meta_description = A ferry for twelve people and their bicycles, every half hour.|meta.description", "meta_keywords = ferry, bicycles, river|meta.keywords",
			"robots_noindex = no|meta.robots_index", "sitemap_enabled = yes|sitemap.offered", "favicon = /anchor.ico|site.icon", "logo = /boat.svg|site.logo", "homepage = timetable|front.page", "copyright = © 2026 The Little Ferry|site.copyright", "page_cache = yes|cache.page", "cache_lifetime_seconds = 900|cache.lifetime",
			"gzip = yes|delivery.compression", "minify = no|delivery.minify", "session_timeout_minutes = 25|session.idle", "login_path = /wheelhouse|login.path", "login_attempts = 5|login.attempts", "allow_registration = no|registration.open", "upload_types = jpg png pdf|upload.types", "upload_max_kb = 3072|upload.size",
			"maintenance = no|maintenance.on", "maintenance_message = The river is high. Back when it is not.|maintenance.message", "debug = no|debug.on", "feed_items = 12|feed.items", "comments = no|comments.open", "boats = 2"})
	}},
	{"sections in a file with somebody's own ending", func(t *testing.T, root string) map[string]string {
		return writeLines(t, root, "storage/main.dat", "ini", "=", []string{"[site]", "name=The Button Box|site.title", "tagline=Every button that ever fell off|site.tagline", "lang=en-GB|site.language", "timezone=Europe/London|site.time_zone", "url=https://www.buttonbox.example|site.address", "icon=/b.ico|site.icon", "logo=/box.svg|site.logo", "[mail]",
			"admin=box@buttonbox.example|mail.admin", "sender_name=The Button Box|mail.sender_name", "sender_address=post@buttonbox.example|mail.sender_address", "[seo]", "description=Buttons of horn, brass and glass, sorted by size and by temper.|meta.description", "keywords=buttons, horn, brass|meta.keywords", "index=1|meta.robots_index", "sitemap=1|sitemap.offered",
			"title_separator=-|title.separator", "[login]", "path=/thimble|login.path", "attempts=6|login.attempts", "[session]", "idle_minutes=15|session.idle", "[registration]", "open=0|registration.open", "confirm_mail=1|registration.confirm_mail", "[cache]", "pages=0|cache.page", "lifetime_seconds=60|cache.lifetime",
			"[maintenance]", "enabled=0|maintenance.on", "message=We are counting. Back on Monday.|maintenance.message", "contact=post@buttonbox.example|maintenance.contact", "[uploads]", "types=jpg,png|upload.types", "max_size_mb=2|upload.size", "[debug]", "enabled=0|debug.on", "[shelves]", "rows=14"})
	}},
	{"tables that return", func(t *testing.T, root string) map[string]string {
		return writeLines(t, root, "app/options.lua", "script", " = ", []string{"-- what the observatory's site is told", "return {", "  site = {", "    title = \"Heron Hill Observatory\",|site.title", "    tagline = \"One dome, no streetlights\",|site.tagline", "    language = \"en-GB\",|site.language", "    timezone = \"Europe/London\",|site.time_zone",
			"    url = \"https://www.heronhill.example\",|site.address", "    favicon = \"/star.ico\",|site.icon", "    logo = \"/dome.svg\",|site.logo", "    copyright = \"© 2026 Heron Hill\",|site.copyright", "  },", "  seo = {", "    description = \"Nights at the telescope for groups, when the clouds allow it.\",|meta.description", "    keywords = { \"stars\", \"dome\" },|meta.keywords",
			"    hide_from_robots = false,|meta.robots_index", "    sitemap = true,|sitemap.offered", "  },", "  mail = {", "    sender_name = \"Heron Hill\",|mail.sender_name", "    sender_address = \"dome@heronhill.example\",|mail.sender_address", "  },", "  login = {", "    path = \"/ladder\",|login.path", "    max_attempts = 3,|login.attempts", "  },", "  session_minutes = 30,|session.idle",
			"  registration_open = false,|registration.open", "  page_cache = true,|cache.page", "  cache_seconds = 300,|cache.lifetime", "  gzip = true,|delivery.compression", "  maintenance = {", "    on = false,|maintenance.on", "    message = \"The dome is shut. Back at dusk.\",|maintenance.message", "  },",
			"  upload = {", "    types = { \"jpg\", \"png\" },|upload.types", "    max_mb = 5,|upload.size", "  },", "  debug = false,|debug.on", "  secret_key = \"an invented key for this one test alone\",|security.secret", "  mirrors = 2,", "}"})
	}},
}

func writeText(t *testing.T, root, name, text string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, name)), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(text), 0o644))
}

// writeLines writes the lines before their last stroke; what stands after it is the setting on that line.
func writeLines(t *testing.T, root, name, formatName, _ string, lines []string) map[string]string {
	t.Helper()
	truth := map[string]string{}
	var text strings.Builder
	for i, line := range lines {
		if at := strings.LastIndexByte(line, '|'); at >= 0 && strings.Contains(line[at:], ".") {
			truth[line[at+1:]] = fmt.Sprintf("%s, line %d", name, i+1)
			line = line[:at]
		}
		text.WriteString(line + "\n")
	}
	_, err := format.Read(formatName, []byte(text.String()), format.Options{})
	require.NoError(t, err, text.String())
	writeText(t, root, name, text.String())
	return truth
}

// writeKeyValues writes a table; a value names its setting after a stroke.
func writeKeyValues(t *testing.T, root, file, table string, rows map[string]string) map[string]string {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, file)), 0o755))
	db, err := sql.Open("sqlite", "file:"+filepath.Join(root, file))
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec("CREATE TABLE " + table + " (id INTEGER PRIMARY KEY, setting TEXT, content TEXT)")
	require.NoError(t, err)
	truth := map[string]string{}
	for key, value := range rows {
		if at := strings.LastIndexByte(value, '|'); at >= 0 {
			setting := value[at+1:]
			if value = value[:at]; strings.HasPrefix(setting, "·") {
				setting, value = strings.TrimPrefix(setting, "·"), "|"
			}
			truth[setting] = fmt.Sprintf("table %s, row %s", table, key)
		}
		_, err := db.Exec("INSERT INTO "+table+" (setting, content) VALUES (?, ?)", key, value)
		require.NoError(t, err)
	}
	return truth
}
