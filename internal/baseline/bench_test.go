package baseline

import "testing"

// BenchmarkLoadAndCompile loads and compiles the whole built-in baseline, as every process does once.
func BenchmarkLoadAndCompile(b *testing.B) {
	rules := 0
	for b.Loop() {
		loaded, err := load(nil)
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
