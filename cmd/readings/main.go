// Command readings asks the plant what every test would show on every suspect and writes
// the table that the reasoning reads: some forty minutes on two cores.
//
// Rows that the table has already are kept unless --anew is given. While it works, each
// row that was answered goes into a journal beside the table; interrupted, the next run
// takes them from there. The table itself is only ever replaced by a whole one.
package main

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"io"
	"os"
	"os/signal"
	"path/filepath"
	"runtime"
	"slices"
	"sync"
	"syscall"

	"wexter/core/diagnose"
	"wexter/ingest"
)

func main() {
	out := flag.String("out", "ingest/book/readings.csv", "the table")
	anew := flag.Bool("anew", false, "ask for every row again")
	count := flag.Bool("count", false, "only count the rows")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	if err := run(ctx, job{path: *out, anew: *anew, count: *count}); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// job is what is asked of the program.
type job struct {
	path  string // of the table
	anew  bool   // ask for every row again
	count bool   // only count the rows
}

func run(ctx context.Context, j job) error {
	b := ingest.Book()
	want, err := diagnose.Wanted(b)
	if err != nil {
		return err
	}
	if j.count {
		n := map[string]int{}
		for _, r := range want {
			n[r.Test]++
		}
		fmt.Println(len(want), n)
		return nil
	}
	t := table{path: j.path, journal: j.path + ".journal", says: os.Stderr}
	from := []string{t.path, t.journal}
	if j.anew {
		from = from[1:]
	}
	if err := t.read(from); err != nil {
		return err
	}
	return t.fill(ctx, want, func(r diagnose.Row) (diagnose.Row, error) { return diagnose.Fill(b, r) })
}

// table is the table of readings while it is being asked for.
type table struct {
	path, journal string
	says          io.Writer
	have          map[string]diagnose.Row // answered, by key
}

// read takes the rows that are there already, of these files: the table, unless all are
// asked for again, and the journal that an interrupted run left.
func (t *table) read(from []string) error {
	t.have = map[string]diagnose.Row{}
	for _, name := range from {
		data, err := os.ReadFile(name)
		if os.IsNotExist(err) {
			continue
		}
		if err != nil {
			return err
		}
		rows, err := ingest.ReadReadings(data)
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		for _, r := range rows {
			t.have[r.Key()] = r
		}
	}
	return nil
}

// fill asks for every row that is wanted and not there. Only when all are answered is the
// table replaced; what was answered till then is kept in the journal.
func (t *table) fill(ctx context.Context, want []diagnose.Row, ask func(diagnose.Row) (diagnose.Row, error)) error {
	open := slices.DeleteFunc(slices.Clone(want), func(r diagnose.Row) bool { _, ok := t.have[r.Key()]; return ok })
	slices.SortStableFunc(open, func(a, b diagnose.Row) int { // the long ones last
		return cmp.Compare(long(a), long(b))
	})
	var mu sync.Mutex
	var group sync.WaitGroup
	next, failed := 0, 0
	for range runtime.NumCPU() {
		group.Go(func() {
			for ctx.Err() == nil {
				mu.Lock()
				i := next
				next++
				mu.Unlock()
				if i >= len(open) {
					return
				}
				r, err := ask(open[i])
				mu.Lock()
				if err != nil {
					failed++
					fmt.Fprintln(t.says, err)
					mu.Unlock()
					continue
				}
				t.have[r.Key()] = r
				if i%200 == 199 {
					fmt.Fprintf(t.says, "%d of %d\n", i+1, len(open))
					t.note(t.write(t.journal, t.rows()))
				}
				mu.Unlock()
			}
		})
	}
	group.Wait()
	if err := ctx.Err(); err != nil {
		t.note(t.write(t.journal, t.rows()))
		return fmt.Errorf("interrupted: %d of %d rows are kept in %s; the table is as it was", len(t.have), len(want), t.journal)
	}
	rows := make([]diagnose.Row, 0, len(want))
	for _, w := range want { // what is no longer wanted is left out
		if r, ok := t.have[w.Key()]; ok {
			rows = append(rows, r)
		}
	}
	slices.SortFunc(rows, byKey)
	if err := t.write(t.path, rows); err != nil {
		return err
	}
	fmt.Fprintf(t.says, "%d rows, %d asked for, %d failed\n", len(rows), len(open), failed)
	if err := os.Remove(t.journal); err != nil && !os.IsNotExist(err) {
		return err
	}
	return nil
}

func (t *table) rows() (out []diagnose.Row) {
	for _, r := range t.have {
		out = append(out, r)
	}
	slices.SortFunc(out, byKey)
	return out
}

func (t *table) note(err error) {
	if err != nil {
		fmt.Fprintln(t.says, "the journal cannot be written:", err)
	}
}

// write replaces a file whole: a new one is written beside it, put on disk and renamed.
func (t *table) write(path string, rows []diagnose.Row) error {
	f, err := os.CreateTemp(filepath.Dir(path), filepath.Base(path)+".*.part")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = f.Write(ingest.WriteReadings(rows))
	if err = cmp.Or(err, f.Sync(), f.Chmod(0o644), f.Close()); err != nil {
		return err
	}
	return os.Rename(f.Name(), path)
}

func byKey(a, b diagnose.Row) int { return cmp.Compare(a.Key(), b.Key()) }

func long(r diagnose.Row) int {
	if r.Test == diagnose.Codes {
		return 1
	}
	return 0
}
