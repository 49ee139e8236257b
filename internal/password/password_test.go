package password

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestWeak: what would be guessed is refused with a reason, and what is long and made by chance, or by four words and more, is not.
func TestWeak(t *testing.T) {
	own := []string{"Lantern Lane Puppet Theatre", "www.lanternlane.example", "preview"}
	for password, says := range map[string]string{
		"": "0 characters", "short": "5 characters", "elevenchars": "11 characters", "äöüäöüäöüäö": "11 characters",
		"aaaaaaaaaaaaaaaa": "1 different", "abababababab": "2 different", "aaaaabbbbbccccc": "3 different", "theatretheatre": "the same 2 times", "xyzwvxyzwvxyzwv": "the same 3 times",
		"lanternlane2026": "word of the site", "LanternLane!!!": "word of the site", "preview-preview1": "word of the site", "Puppet-Theatre": "word of the site", "l4nt3rnl4n3": "11 characters", "l4nt3rn-l4n3!": "word of the site",
		"qwertyuiop12": "keyboard", "123456789012": "keyboard", "abcdefghijkl": "keyboard", "asdfghjkl;123": "keyboard", "1qaz2wsx3edc": "keyboard", "poiuytrewq99": "keyboard",
		"password12345": "many choose", "P@ssw0rd123!": "many choose", "Passw0rd!!!!!!": "many choose", "sunshine-2026": "many choose", "Sommer2026!!!": "many choose", "dragonmonkey": "many choose", "Dragon-Monkey-1": "many choose", "2026-12-01-13": "many choose",
	} {
		assert.Contains(t, Weak(password, own...), says, password)
	}
	for _, password := range []string{"zK9$mmPq2xVu", "open sesame now", "correct horse battery staple", "NBSWY3DPEB3W64TMMQ", "vier-laternen-im-nebel", "Hj7-preview-Qz81kTx", "ünäöß-Größe-Läufe", "9f8c2e1b7d4a", "waterwheel-turns-slow"} {
		assert.Empty(t, Weak(password, own...), password)
	}
	assert.Greater(t, len(common()), 1000)
}

func FuzzWeak(f *testing.F) {
	f.Add("password12345", "lantern")
	f.Add("\xff\xfe0123456789", "\xff")
	f.Fuzz(func(t *testing.T, password, own string) {
		if len(password) < 200 {
			_ = Weak(password, own)
		}
	})
}
