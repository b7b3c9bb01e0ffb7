package protocol

import "testing"

func BenchmarkParseReadings(b *testing.B) {
	line := []byte(`{"kind":"readings","id":123456,"step":123456,"epoch":12,"time":1790000000000,"values":{"loss.train":0.123456789,"loss.val":0.234567891}}`)
	b.ReportAllocs()
	for b.Loop() {
		if _, err := Parse(line, now); err != nil {
			b.Fatal(err)
		}
	}
}
