package secrets

import (
	"strings"
	"testing"
)

// BenchmarkShown is what every output pays, beside the floor of searching it for a text that is not there.
func BenchmarkShown(b *testing.B) {
	line := `      {"address": "https://www.lanternlane.example/2026/11/the-winter-wolf-opens/?page=2", "title": "The winter wolf opens in December", "says": "the title is 71 pixels wider than a search engine shows"},` + "\n"
	text := strings.Repeat(line, 5000)
	b.Run("shown", func(b *testing.B) {
		b.SetBytes(int64(len(text)))
		for b.Loop() {
			Shown(text)
		}
	})
	b.Run("floor", func(b *testing.B) {
		b.SetBytes(int64(len(text)))
		for b.Loop() {
			_ = strings.ToLower(text)
		}
	})
}
