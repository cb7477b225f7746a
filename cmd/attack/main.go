// Attack goes at the running program and prints what it came to: busy neighbours, hostile
// files, an instrument that sends nonsense, locked and damaged files, and a hundred kills.
// Each figure stands beside what is asked of it. The program under attack is built and
// served as a shop would, and whoever attacks shares its processors.
//
//	go run ./cmd/attack              all of it, some ten minutes
//	go run ./cmd/attack crowd kills  some of it
package main

import (
	"context"
	"crypto/sha256"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// attack is one way of going at the program.
type attack struct {
	name, what string
	run        func(ctx context.Context, w world) ([]figure, error)
}

// figure is what was measured, and how much or how little was asked for.
type figure struct {
	what      string
	got, most float64
	unit      string
	least     bool // most is the least that is asked for
}

func (f figure) holds() bool {
	if f.least {
		return f.got >= f.most
	}
	return f.got <= f.most
}

// world is what attacks work with.
type world struct {
	wexter string // the program
	dir    string // of the attack alone
	crowd  crowdSize
	kills  int
}

func main() {
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "attack:", err)
		os.Exit(1)
	}
}

func run(args []string) error {
	fs := flag.NewFlagSet("attack", flag.ContinueOnError)
	w := world{}
	fs.DurationVar(&w.crowd.lasts, "lasts", time.Minute, "how long neighbours and crowd keep at it")
	fs.IntVar(&w.crowd.readers, "readers", 80, "how many read")
	fs.IntVar(&w.crowd.writers, "writers", 20, "how many write")
	fs.IntVar(&w.kills, "kills", 100, "how often the program is killed")
	fs.StringVar(&w.wexter, "wexter", "", "the program; built when none is given")
	if err := fs.Parse(args); err != nil {
		return err
	}
	chosen, err := choose(fs.Args())
	if err != nil {
		return err
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	if w.dir, err = os.MkdirTemp("", "wexter-attack-"); err != nil {
		return err
	}
	defer os.RemoveAll(w.dir)
	if w.wexter == "" {
		w.wexter = filepath.Join(w.dir, "wexter")
		if out, err := exec.CommandContext(ctx, "go", "build", "-o", w.wexter, "./cmd/wexter").CombinedOutput(); err != nil {
			return fmt.Errorf("the program cannot be built: %w\n%s", err, out)
		}
	}
	failed := 0
	for _, a := range chosen {
		n, err := w.make(ctx, a)
		if err != nil {
			return fmt.Errorf("%s: %w", a.name, err)
		}
		failed += n
	}
	if failed > 0 {
		return fmt.Errorf("%d figures do not hold", failed)
	}
	return nil
}

// choose returns the attacks named, or all.
func choose(names []string) ([]attack, error) {
	all := []attack{
		{"neighbours", "six upload logs of 100 000 rows, twenty write, one hold is read live", neighbours},
		{"crowd", "readers and writers with 0.2 to 1 s between two pages", crowd},
		{"module", "a module that sends no numbers, nonsense, and 500 faults a second", module},
		{"files", "hostile bundles, photos and logs", files},
		{"locks", "a second server, a locked file, files that are no shop", locks},
		{"kills", "kill -9 beside the writers", kills},
	}
	if len(names) == 0 {
		return all, nil
	}
	var out []attack
	for _, n := range names {
		i := slices.IndexFunc(all, func(a attack) bool { return a.name == n })
		if i < 0 {
			var known []string
			for _, a := range all {
				known = append(known, a.name)
			}
			return nil, fmt.Errorf("there is no attack %q; there are %s", n, strings.Join(known, ", "))
		}
		out = append(out, all[i])
	}
	return out, nil
}

// make runs an attack in a folder of its own, prints its figures, and returns how many do
// not hold.
func (w world) make(ctx context.Context, a attack) (failed int, err error) {
	w.dir = filepath.Join(w.dir, a.name)
	if err := os.MkdirAll(w.dir, 0o700); err != nil {
		return 0, err
	}
	began := time.Now()
	before := pace()
	fmt.Printf("%s: %s\n", a.name, a.what)
	fs, err := a.run(ctx, w)
	if err != nil {
		return 0, err
	}
	if len(fs) == 0 {
		return 0, errors.New("it measured nothing")
	}
	for _, f := range fs {
		mark, word := "holds", "at most"
		if f.least {
			word = "at least"
		}
		if !f.holds() {
			mark = "DOES NOT HOLD"
			failed++
		}
		fmt.Printf("  %-58s %10.4g %-4s (%s %g) %s\n", f.what, f.got, f.unit, word, f.most, mark)
	}
	fmt.Printf("  took %.0f s; a fixed sum took %.0f ms before and %.0f ms after\n", time.Since(began).Seconds(), before, pace())
	return failed, nil
}

// pace is how long a fixed sum takes just now, ms: a computer that others share is slower at
// times, and figures of two runs are compared by it.
func pace() float64 {
	began := time.Now()
	data := make([]byte, 1<<20)
	for range 64 {
		sum := sha256.Sum256(data)
		data[0] = sum[0]
	}
	return time.Since(began).Seconds() * 1e3
}
