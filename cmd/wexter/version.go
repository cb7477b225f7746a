package main

import (
	"cmp"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"runtime/debug"
)

// What the build says about itself, set by -ldflags "-X main.release=…" (see the Makefile).
// Without it, what Go has noted of the checkout is taken.
var release, commit, date string

// versionJSON says which program this is. Commit and date are those of the checkout that
// it was built in, and empty for one built elsewhere.
type versionJSON struct {
	Version  string `json:"version"`
	Commit   string `json:"commit"`
	Date     string `json:"date"`
	Modified bool   `json:"modified"` // built with changes that were not committed
	Go       string `json:"go"`
}

func version() versionJSON {
	v := versionJSON{Version: cmp.Or(release, "development"), Commit: commit, Date: date}
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return v
	}
	v.Go = info.GoVersion
	for _, s := range info.Settings {
		switch s.Key {
		case "vcs.revision":
			v.Commit = cmp.Or(v.Commit, s.Value)
		case "vcs.time":
			v.Date = cmp.Or(v.Date, s.Value)
		case "vcs.modified":
			v.Modified = s.Value == "true"
		}
	}
	return v
}

func showVersion(args []string, out, errs io.Writer) error {
	fs := flag.NewFlagSet("version", flag.ContinueOnError)
	asJSON := fs.Bool("json", false, "print for machines")
	words, err := parse(fs, args, errs)
	if err != nil {
		return err
	}
	if len(words) > 0 {
		return usage("%q is one word too many", words[0])
	}
	v := version()
	if *asJSON {
		return json.NewEncoder(out).Encode(v)
	}
	changed := ""
	if v.Modified {
		changed = ", with changes of its own"
	}
	_, err = fmt.Fprintf(out, "wexter %s\ncommit %s%s\ndate   %s\n%s\n", v.Version, cmp.Or(v.Commit, "not known"), changed, cmp.Or(v.Date, "not known"), v.Go)
	return err
}
