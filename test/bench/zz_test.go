package main

import "testing"

func runp(b *testing.B, mk func() (pair, error)) {
	p, err := mk()
	if err != nil {
		b.Fatal(err)
	}
	b.ReportAllocs()
	for b.Loop() {
		if _, err := p.ours(); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/readLines, "ns/line")
}
func BenchmarkWeb(b *testing.B)      { runp(b, readWeb) }
func BenchmarkTemplate(b *testing.B) { runp(b, readTemplate) }
func BenchmarkJSON(b *testing.B)     { runp(b, readJSON) }
func BenchmarkPairs(b *testing.B)    { runp(b, readPairs) }
func BenchmarkFind(b *testing.B)     { runp(b, findThree) }
func runb(b *testing.B, mk func() (pair, error)) {
	p, err := mk()
	if err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		if _, err := p.baseline(); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/readLines, "ns/line")
}
func BenchmarkBWeb(b *testing.B)      { runb(b, readWeb) }
func BenchmarkBTemplate(b *testing.B) { runb(b, readTemplate) }
func BenchmarkBJSON(b *testing.B)     { runb(b, readJSON) }
func BenchmarkBPairs(b *testing.B)    { runb(b, readPairs) }
func BenchmarkBFind(b *testing.B)     { runb(b, findThree) }
