package secrets

import (
	"regexp"
	"strings"
)

var (
	parts = regexp.MustCompile(`[A-Z]+(?:[a-z]+|[0-9]*)|[a-z]+|[0-9]+`)

	// secretWords are what something secret goes by, alone or as a part of a longer name.
	secretWords = setOf("password passwd passphrase passcode pass pwd pw secret token credential salt nonce signature dsn bearer authorization cookie pin apikey jwt hmac otp")
	// secretKeys are what stands before key when a key is a secret.
	secretKeys = setOf("api access private secret encryption session auth license licence app signing master shared service deploy hook webhook crypto cipher seal storage account")
	// endings are so plain that they count at the end of a word run together with others, unless it is one of those that only sound so.
	endings  = []string{"password", "passwd", "secret", "token", "apikey", "passphrase", "pass", "pw"}
	sounding = setOf("compass trespass bypass surpass underpass overpass encompass tresspass")
	// describing end a name that is about a secret and is none: how long it is, where it lies, what it is called.
	describing = setOf(`file path dir folder directory name url uri host port type length len min max minimum maximum ttl lifetime expiry expire expiration age size count used limit enabled required
		policy strength rotation algorithm algo method field domain samesite secure httponly form page reset dialog header timeout duration interval day hour minute second format charset version window location
		endpoint issuer realm scope attempt retry store provider check hide rule`)
	// queryKeys are what a secret goes by in the query of an address besides.
	queryKeys = setOf("sig sid sessionid session jwt hmac auth authkey code_verifier client_assertion")
)

func setOf(words string) map[string]bool {
	set := map[string]bool{}
	for _, word := range strings.Fields(words) {
		set[word] = true
	}
	return set
}

// passing are directives of nginx and Apache that pass something on.
var passing = regexp.MustCompile(`^(?:(?:fastcgi|uwsgi|scgi|proxy|grpc|memcached)_pass|ProxyPass)`)

// Key tells whether something secret may go by a name: of a column, a row, a setting, a header, a parameter.
func Key(name string) bool {
	if len(name) > 200 || !hints(name) || passing.MatchString(name) {
		return false
	}
	words := parts.FindAllString(name, -1)
	secret := false
	for i, word := range words {
		whole := strings.ToLower(word)
		word = singular(whole)
		last := i == len(words)-1
		if last && secret && describing[word] {
			return false
		}
		if secretWords[word] || word == "key" && i > 0 && secretKeys[strings.ToLower(words[i-1])] {
			secret = true
		}
		for _, ending := range endings {
			if (strings.HasSuffix(word, ending) || strings.HasSuffix(whole, ending)) && !sounding[whole] {
				secret = true
			}
		}
	}
	return secret
}

// stems are in every name that Key knows.
var stems = strings.Fields("pass pwd pw secret token cred salt nonce sign dsn bearer author cookie pin key jwt hmac otp")

// hints tells whether it is worth while to look at a name.
func hints(name string) bool {
	name = strings.ToLower(name)
	for _, stem := range stems {
		if strings.Contains(name, stem) {
			return true
		}
	}
	return false
}

func singular(word string) string {
	word = strings.TrimSuffix(word, "s")
	if word == "pas" {
		return "pass"
	}
	return word
}
