package discover

import (
	"regexp"
	"slices"
	"strings"
	"sync"
)

// lexicon gives the concepts that words of keys stand for: English first, then the usual abbreviations, then German,
// French, Spanish, Italian and Dutch. A word may stand for several.
var lexicon = map[string]string{
	"site":       "site website web general global main basic portal shop store seite webseite sitio sito boutique tienda negozio winkel allgemein",
	"title":      "title titel titre titulo titolo heading headline caption ttl",
	"name":       "name nom nombre nome naam label called bezeichnung nm",
	"tagline":    "tagline slogan subtitle motto strapline byline untertitel sous-titre lema sottotitolo ondertitel claim catchphrase leitspruch devise",
	"describe":   "description desc descr describe blurb summary abstract about beschreibung descripcion descrizione omschrijving resume zusammenfassung",
	"keywords":   "keywords keyword kw tags schlagworte stichworte motscles palabrasclave parolechiave trefwoorden words mots",
	"meta":       "meta seo metadata searchengine searchengines suchmaschinen",
	"language":   "language lang locale langue sprache idioma lingua taal",
	"zone":       "timezone zone tz zeitzone fuseau zonahoraria fusoorario tijdzone clock uhr",
	"time":       "time zeit temps hora ora tijd",
	"icon":       "icon favicon ico tabicon symbol icone icono icona pictogram",
	"logo":       "logo sign emblem wappen",
	"copyright":  "copyright copy footer foot fusszeile impressumszeile piedpage pie voettekst copyrightline colophon",
	"address":    "url address adresse domain host uri baseurl link direccion indirizzo adres permalink public href",
	"install":    "install installation backend core admin_url internal inner base root system",
	"admin":      "admin administrator webmaster owner keeper operator verwalter administrateur administrador amministratore beheerder",
	"mail":       "mail email e-mail mailer smtp courriel correo posta epost correspondence",
	"sender":     "sender from absender expediteur remitente mittente afzender",
	"front":      "front home frontpage homepage startpage start landing index accueil startseite inicio voorpagina root welcome",
	"page":       "page pages seite leaf sheet pagina static document",
	"shows":      "show shows display mode view anzeige affiche muestra mostra toont visible shown",
	"post":       "post posts article articles beitrag beitraege entry entries item news artikel entradas articoli",
	"missing":    "404 notfound missing nichtgefunden introuvable noencontrado nontrovato nietgevonden",
	"error":      "error errors err fault 500 fehler erreur fallo errore fout exceptions",
	"search":     "search find suche recherche buscar busqueda ricerca zoeken lookup",
	"login":      "login signin logon auth anmeldung anmelden connexion acceso accesso aanmelden gate door entrance logging sign-in identification",
	"default":    "default standard usual vorgabe defaut predeterminado predefinito standaard",
	"category":   "category cat topic section rubrik kategorie categorie categoria rubrique department shelf dept",
	"comment":    "comment comments discussion kommentar kommentare commentaire commentaires comentarios commenti reacties remarks reviews feedback",
	"open":       "open allow allowed enabled enable on active activated offen erlaubt autoriser permitir consenti toestaan permit",
	"moderate":   "moderate moderated moderation held hold approve approval freigabe pruefen approbation moderacion moderazione goedkeuring premoderate",
	"author":     "author writer autor auteur autore schrijver by hand users",
	"generator":  "generator maker poweredby powered produced erzeuger generateur",
	"tag":        "tag balise etiqueta",
	"rights":     "rights license licence copyrights rechte droits derechos diritti rechten",
	"verify":     "verify verification verifications proof proofs bestaetigung ownership token",
	"card":       "card cards og opengraph social share sharing teilen partage compartir",
	"image":      "image img picture pic photo thumbnail thumb bild imagen immagine afbeelding",
	"structured": "structured schema jsonld ld richdata microdata rich strukturierte",
	"index":      "robots indexing indexable indexed listed crawl crawlers spider visibility searchable indexierung indexation indexacion bots",
	"hide":       "hide hidden noindex private invisible verstecken verbergen cacher masquer ocultar nascondi verberg disallow unlisted deindex",
	"follow":     "follow followed nofollow folgen suivre seguir seguire volgen",
	"sitemap":    "sitemap sitemaps seitenplan plandusite mapadelsitio mappa xmlmap map",
	"listing":    "archive archives listing listings list liste archiv archivo archivio overview",
	"date":       "date dates month months monthly calendar datum datums fecha data monat",
	"file":       "file files attachment attachments media anhang piece adjunto allegato bijlage",
	"feed":       "feed feeds rss atom syndication flux newsfeed",
	"count":      "count number items max limit amount num anzahl nombre_de cantidad numero aantal per",
	"full":       "full fulltext whole complete volltext complet completo volledig excerpt entire",
	"reply":      "reply replyto answer antwort reponse respuesta risposta antwoord",
	"notify":     "ping pings notify notification pingback weblogupdates benachrichtigen notifier avisar services",
	"permalink":  "permalink permalinks slug pretty urlpattern urlformat linkform route path pfad chemin routing address_form address_shape shape",
	"pattern":    "pattern format form structure template scheme mask shape muster vorlage modele plantilla modello sjabloon schema layout",
	"prefix":     "prefix prefixe praefix prefijo prefisso voorvoegsel before base",
	"suffix":     "suffix extension ending endung suffixe sufijo suffisso achtervoegsel html ext",
	"rewrite":    "rewrite rewriting modrewrite cleanurls friendly umschreiben reecriture reescritura riscrittura herschrijven seourls",
	"cache":      "cache caching cached zwischenspeicher antememoire keep store buffer caches",
	"object":     "object objects objekt objet objeto oggetto fragment",
	"query":      "query queries sql database db abfragen requete requetes consulta consultas dbcache answers",
	"preload":    "preload warm warmup prefetch prewarm ahead primed vorladen vorwaermen prechargement precarga precarica",
	"debug":      "debug debugging dev development verbose trace diagnosis debugmode entwicklung debogage depuracion devmode chatty marks preview test",
	"lifetime":   "lifetime ttl expiry expires expiration duration age maxage seconds minutes lebensdauer duree duracion durata duur keepfor timeout idle interval",
	"compress":   "compress compression gzip zlib brotli deflate komprimieren komprimierung compresser compresion compressione comprimir",
	"minify":     "minify minification minified shrink combine concat verkleinern minifier reducir optimize assets squeeze",
	"register":   "register registration signup join membership enrol registrierung inscription registro registrazione registratie newusers anmeldungen",
	"role":       "role rank level group rolle rol ruolo niveau permission capability",
	"confirm":    "confirm confirmation activate activation optin bestaetigen confirmer confirmar conferma bevestigen validate double",
	"attempts":   "attempts tries attempt retries failures lockout versuche tentatives intentos tentativi pogingen maxtries bruteforce",
	"second":     "second factor 2fa twofactor mfa otp totp zweifaktor multifactor second_key tfa",
	"session":    "session sessions sitzung sesion sessione sessie cookie logout autologout idle inactivity",
	"upload":     "upload uploads hochladen televersement subida caricamento uploaden media files",
	"types":      "types type extensions endings mimetypes formats allowed typen endungen tipos tipi",
	"size":       "size max_size maxsize bytes kb mb filesize limit groesse taille tamano dimensione grootte largest weight",
	"print":      "print display show visible anzeigen afficher mostrar mostra tonen output reveal",
	"code":       "code source editor fileedit edit editing quelltext program php templates_edit",
	"secret":     "secret key salt seed hash token nonce schluessel geheim cle clave chiave sleutel appkey",
	"transfer":   "ftp sftp ssh transfer ferry filetransfer ftps",
	"password":   "password pass passwd pwd passwort kennwort motdepasse contrasena wachtwoord pw",
	"mailbox":    "mailbox pop3 imap pop letterbox inbox postfach mailserver byemail postbymail post_by_mail",
	"version":    "version release build versie versione db_version ver",
	"maintain":   "maintenance offline closed shutdown down wartung wartungsmodus mantenimiento manutenzione onderhoud closed shutter notice construction underconstruction hors service travaux up",
	"message":    "message text notice msg nachricht meldung texte mensaje messaggio bericht content sign words",
	"contact":    "contact kontakt contacto contatto ask bell inquiries helpdesk support",
	"lock":       "lock locked protect protected passwordprotect sperre gesperrt verrou bloqueo blocco basicauth barred bolt restricted gate",
	"splash":     "splash intro welcomepage vorschaltseite curtain landing_intro teaser",
	"usage":      "usage telemetry tracking statistics report reporting phonehome nutzungsdaten telemetrie stats analytics_optin makers",
	"separator":  "separator sep divider delimiter trennzeichen separateur separador separatore scheidingsteken between glue",
	"inner":      "inner sub subpage single leaf subpages inside unterseite interieure interna",
	"posting":    "posting byemail remote einliefern",
	"database":   "database db datenbank basededonnees basedatos mysql pgsql sqlite dsn",
	"user":       "user username benutzer utilisateur usuario utente gebruiker",
	"part":       "addon addons add-on module modules component components tool tools part parts plugin plugins erweiterung erweiterungen newest latest",
	"theme":      "theme template skin design tema layout coat",
}

// conceptsOf is the lexicon by word, made when it is first asked for.
var conceptsOf = sync.OnceValue(func() map[string][]string {
	byWord, plain := map[string][]string{}, strings.NewReplacer("-", "", "_", "")
	for concept, words := range lexicon {
		for word := range strings.FieldsSeq(words) {
			word = plain.Replace(word)
			byWord[word] = append(byWord[word], concept)
		}
	}
	for word := range byWord {
		slices.Sort(byWord[word])
	}
	return byWord
})

var (
	camel      = regexp.MustCompile(`([a-z0-9])([A-Z])`)
	camelRun   = regexp.MustCompile(`([A-Z]+)([A-Z][a-z])`)
	wordOfKey  = regexp.MustCompile(`[a-z0-9äöüßàâçéèêëîïôûùñóíá]+`)
	transcribe = strings.NewReplacer("ä", "ae", "ö", "oe", "ü", "ue", "ß", "ss", "é", "e", "è", "e", "ê", "e", "ë", "e", "à", "a", "â", "a", "ç", "c", "î", "i", "ï", "i", "ô", "o", "û", "u", "ù", "u", "ñ", "n", "ó", "o", "í", "i", "á", "a")
)

// A word of a key, with the concepts it stands for.
type word struct {
	text     string
	concepts []string
}

// wordsOf takes a key apart: at signs, at capitals, and where a run of letters is made of words that are known.
func wordsOf(key string) []word {
	concepts := conceptsOf()
	if len(key) > 8*maxWord {
		key = key[:8*maxWord]
	}
	key = camelRun.ReplaceAllString(camel.ReplaceAllString(key, "$1 $2"), "$1 $2")
	var words []word
	for _, text := range wordOfKey.FindAllString(strings.ToLower(key), -1) {
		text = transcribe.Replace(text)
		if isDigits(text) && text != "404" && text != "500" {
			continue
		}
		words = append(words, known(text)...)
	}
	// Two words that are one: time zone, not found, double opt in.
	for i := 0; i+1 < len(words); i++ {
		if joint, ok := concepts[words[i].text+words[i+1].text]; ok {
			words = append(words[:i], append([]word{{words[i].text + words[i+1].text, union(joint, words[i].concepts, words[i+1].concepts)}}, words[i+2:]...)...)
		}
	}
	return words
}

func union(lists ...[]string) []string {
	var all []string
	for _, list := range lists {
		all = append(all, list...)
	}
	slices.Sort(all)
	return slices.Compact(all)
}

func isDigits(text string) bool { return strings.Trim(text, "0123456789") == "" }

// known looks a word up, as it is, without an ending, or in two parts.
func known(text string) []word {
	concepts := conceptsOf()
	for _, form := range []string{text, strings.TrimSuffix(text, "s"), strings.TrimSuffix(text, "en"), strings.TrimSuffix(text, "e")} {
		if found, ok := concepts[form]; ok {
			return []word{{text, found}}
		}
	}
	if len(text) > maxWord {
		return []word{{text, nil}}
	}
	for cut := len(text) - 2; cut >= 2; cut-- {
		head, ok := concepts[text[:cut]]
		if !ok {
			head, ok = concepts[strings.TrimSuffix(strings.TrimSuffix(text[:cut], "s"), "n")] // as German joins words
		}
		tail, also := concepts[text[cut:]]
		if !also {
			tail, also = concepts[strings.TrimSuffix(text[cut:], "s")]
		}
		if ok && also && cut >= 3 && len(text)-cut >= 3 {
			return []word{{text[:cut], head}, {text[cut:], tail}}
		}
	}
	return []word{{text, nil}}
}
