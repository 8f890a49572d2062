package explain

import "testing"

// A number explained, as pigeon number and POST /v1/numbers do.
func BenchmarkNumber(b *testing.B) {
	b.ReportAllocs()
	for b.Loop() {
		if n := Number("07700 900123", "GB"); !n.Valid {
			b.Fatal(n)
		}
	}
}
