package baseline

import "testing"

// BenchmarkLoadAndCompile loads and compiles the whole built-in baseline, as every audit does.
func BenchmarkLoadAndCompile(b *testing.B) {
	rules := 0
	for b.Loop() {
		loaded, err := Load()
		if err != nil {
			b.Fatal(err)
		}
		if err := loaded.Compile(); err != nil {
			b.Fatal(err)
		}
		rules = len(loaded.Rules)
	}
	b.ReportMetric(float64(b.Elapsed().Microseconds())/float64(b.N*rules), "us/rule")
}
