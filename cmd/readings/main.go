// Command readings asks the plant what every test would show on every suspect and writes
// the table that the reasoning reads. Rows that the file has already are kept unless
// --anew is given. It takes about half an hour on two cores.
package main

import (
	"cmp"
	"flag"
	"fmt"
	"os"
	"runtime"
	"slices"
	"sync"
	"time"

	"wexter/core/diagnose"
	"wexter/ingest"
)

func main() {
	out := flag.String("out", "ingest/book/readings.csv", "the table")
	anew := flag.Bool("anew", false, "ask for every row again")
	count := flag.Bool("count", false, "only count the rows")
	flag.Parse()
	if err := run(*out, *anew, *count); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(path string, anew, count bool) error {
	b := ingest.Book()
	want, err := diagnose.Wanted(b)
	if err != nil {
		return err
	}
	if count {
		n := map[string]int{}
		for _, r := range want {
			n[r.Test]++
		}
		fmt.Println(len(want), n)
		return nil
	}
	have := map[string]diagnose.Row{}
	if data, err := os.ReadFile(path); err == nil && !anew {
		rows, err := ingest.ReadReadings(data)
		if err != nil {
			return err
		}
		for _, r := range rows {
			have[r.Key()] = r
		}
	}
	slices.SortStableFunc(want, func(a, b diagnose.Row) int { // the long ones last
		return cmp.Compare(btoi(a.Test == diagnose.Codes), btoi(b.Test == diagnose.Codes))
	})
	var mu sync.Mutex
	var group sync.WaitGroup
	next, failed := 0, 0
	begin := time.Now()
	for range runtime.NumCPU() {
		group.Go(func() {
			for {
				mu.Lock()
				i := next
				next++
				if i < len(want) && i%500 == 499 {
					fmt.Fprintf(os.Stderr, "%d of %d, %s\n", i+1, len(want), time.Since(begin).Round(time.Second))
					_ = os.WriteFile(path, ingest.WriteReadings(want[:i-2]), 0o644)
				}
				mu.Unlock()
				if i >= len(want) {
					return
				}
				if r, ok := have[want[i].Key()]; ok {
					mu.Lock()
					want[i] = r
					mu.Unlock()
					continue
				}
				r, err := diagnose.Fill(b, want[i])
				mu.Lock()
				if err != nil {
					failed++
					fmt.Fprintln(os.Stderr, err)
					r.Unreached = true
				}
				want[i] = r
				mu.Unlock()
			}
		})
	}
	group.Wait()
	slices.SortFunc(want, func(a, b diagnose.Row) int { return cmp.Compare(a.Key(), b.Key()) })
	fmt.Fprintf(os.Stderr, "%d rows, %d failed, %s\n", len(want), failed, time.Since(begin).Round(time.Second))
	return os.WriteFile(path, ingest.WriteReadings(want), 0o644)
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}
