// Command wexter is the whole program: the web application, the stand-ins for
// scripts, and the arithmetic on the command line.
package main

import (
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"strings"
)

// badUse is an error in how the command was called: exit code 2.
type badUse struct{ error }

func usage(format string, a ...any) error { return badUse{fmt.Errorf(format, a...)} }

type command struct {
	name, args, about string
	run               func(args []string, out, errs io.Writer) error
}

func commands() []command {
	return []command{
		{"serve", "[--addr 127.0.0.1:8080] [--db wexter.db] [--book PAGES] [--patience 5s] [--serial NAME]", "serve the shop", serve},
		{"demo", "[--addr 127.0.0.1:8080] [--cars all] [--patience 5s] [--serial NAME]", "serve a fresh copy of the made-up shop, in a database of its own", serveDemo},
		{"decay", "RUN.csv … [--volume 42L] [--drift DRIFT.csv] [--json]", "judge a pressure or vacuum hold", runDecay},
		{"plan-hold", "--volume 42L [--start 13inH2O] [--json]", "how long to hold, and what would help", runPlan},
		{"trim", "LOG.csv [--metering maf|map] [--displacement 1.6L] [--before LOG0.csv] [--json]", "judge the fuel trims of a drive: what is wrong, how much of it, and whether a repair worked", runTrim},
		{"scan", "FILE [--json]", "decode hex answers: codes, freeze frame, readiness, live data", runScan},
		{"diagnose", "CASE.json [--kit smoke,gauge,…] [--json]", "odds of what is wrong with a car, and the test worth doing next", runDiagnose},
		{"vocabulary", "[--book PAGES] [--json]", "archetypes, faults, tests and outcomes by key", runVocabulary},
		{"map", "[--engine na-maf] [--vapour engine-vacuum] … [--out FILE.svg]", "draw the plumbing of a combination of archetypes", runMap},
		{"simulate", "--archetype na-maf,engine-vacuum --fault cap:0.5 --test decay | --drive [--seed 1] [--csv | --json]", "what the instruments of a test would read on a simulated car", runSimulate},
		{"judge", "--test KEY [--archetype na-maf,engine-vacuum] [--part KEY] READING=VALUE … [--json]", "what the readings of a test come to", runJudge},
		{"standin", "module | adapter | tell  [--addr 127.0.0.1:0] …", "a simulated instrument, served on this computer", runStandin},
		{"read", "[NAME] [--db wexter.db] [--count 20] [--json]", "what an instrument of the shop shows; without a name, which it has", runRead},
		{"backup", "FILE [--db wexter.db]", "copy the shop into FILE, also while it is served", backup},
		{"restore", "FILE [--db wexter.db]", "put a backup in place; the shop that was there is kept beside it", restore},
		{"export", "CASE [--out FILE] [--db wexter.db]", "write one case as a JSON bundle", export},
		{"import", "BUNDLE [--db wexter.db]", "read a JSON bundle into the shop", importBundle},
		{"version", "[--json]", "version, commit and date of this program", showVersion},
	}
}

func main() { os.Exit(run(os.Args[1:], os.Stdout, os.Stderr)) }

// run is main without the process: it returns the exit code.
func run(args []string, out, errs io.Writer) int {
	if len(args) == 0 || args[0] == "help" || args[0] == "--help" || args[0] == "-h" {
		help(out)
		if len(args) == 0 {
			return 2
		}
		return 0
	}
	for _, c := range commands() {
		if c.name != args[0] {
			continue
		}
		err := c.run(args[1:], out, errs)
		var bad badUse
		switch {
		case err == nil || errors.Is(err, flag.ErrHelp):
			return 0
		case errors.As(err, &bad):
			fmt.Fprintf(errs, "wexter %s: %v\nuse: wexter %s %s\n", c.name, err, c.name, c.args)
			return 2
		}
		fmt.Fprintf(errs, "wexter %s: %v\n", c.name, err)
		return 1
	}
	fmt.Fprintf(errs, "wexter: there is no command %q; `wexter help` lists them\n", args[0])
	return 2
}

func help(w io.Writer) {
	fmt.Fprint(w, "Wexter plans the hunt for a leak or a stuck valve in EVAP, crankcase, EGR, intake and boost\nplumbing, sizes it, and proves the repair.\n\n")
	for _, c := range commands() {
		fmt.Fprintf(w, "  wexter %-10s %s\n  %18s%s\n", c.name, c.args, "", c.about)
	}
	fmt.Fprint(w, "\n--json prints for machines. Exit codes: 1 cannot do, 2 bad use.\n")
}

// parse reads flags that may stand before, between and after the other words.
func parse(fs *flag.FlagSet, args []string, errs io.Writer) ([]string, error) {
	fs.SetOutput(io.Discard)
	var words []string
	for {
		if err := fs.Parse(args); err != nil {
			if errors.Is(err, flag.ErrHelp) {
				fs.SetOutput(errs)
				fs.PrintDefaults()
				return nil, flag.ErrHelp
			}
			return nil, usage("%s", strings.ReplaceAll(err.Error(), " -", " --"))
		}
		args = fs.Args()
		if len(args) == 0 {
			return words, nil
		}
		words = append(words, args[0])
		args = args[1:]
	}
}
