package knowledge_test

import "testing"

func BenchmarkCheck(b *testing.B) {
	book := clone()
	for b.Loop() {
		if err := book.Check(); err != nil {
			b.Fatal(err)
		}
	}
}
