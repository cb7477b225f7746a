package main

import (
	"context"
	"flag"
	"fmt"
	"io"
	"os"
	"time"

	"wexter/casework"
	"wexter/ingest"
	"wexter/report"
	"wexter/store"
)

// withShop parses --db and the words, opens the shop and runs f.
func withShop(name string, args []string, errs io.Writer, want int, need string, add func(*flag.FlagSet), f func(*casework.Shop, []string) error) error {
	fs := flag.NewFlagSet(name, flag.ContinueOnError)
	path := fs.String("db", "wexter.db", "the shop's file")
	if add != nil {
		add(fs)
	}
	words, err := parse(fs, args, errs)
	if err != nil {
		return err
	}
	if len(words) != want {
		return usage("name %s", need)
	}
	if name != "import" {
		if _, err := os.Stat(*path); err != nil {
			return fmt.Errorf("there is no shop at %s; name it with --db", *path)
		}
	}
	db, err := store.Open(*path)
	if err != nil {
		return err
	}
	defer db.Close()
	return f(&casework.Shop{DB: db, Book: ingest.Book(), Now: time.Now}, words)
}

func backup(args []string, out, errs io.Writer) error {
	return withShop("backup", args, errs, 1, "the file to write", nil, func(s *casework.Shop, w []string) error {
		if err := s.DB.Backup(context.Background(), w[0]); err != nil {
			return err
		}
		fmt.Fprintf(out, "the shop is copied to %s\n", w[0])
		return nil
	})
}

// restore checks the backup by opening a copy of it, keeps the shop that was there
// beside it, and only then puts the copy in place.
func restore(args []string, out, errs io.Writer) error {
	fs := flag.NewFlagSet("restore", flag.ContinueOnError)
	path := fs.String("db", "wexter.db", "the shop's file")
	words, err := parse(fs, args, errs)
	if err != nil {
		return err
	}
	if len(words) != 1 {
		return usage("name the backup")
	}
	return store.Restore(words[0], *path, func(kept string) {
		if kept != "" {
			fmt.Fprintf(out, "the shop that was there is kept as %s\n", kept)
		}
		fmt.Fprintf(out, "%s is in place at %s\n", words[0], *path)
	})
}

func export(args []string, out, errs io.Writer) error {
	var to string
	return withShop("export", args, errs, 1, "the case, by its number", func(fs *flag.FlagSet) {
		fs.StringVar(&to, "out", "", "file to write; the bundle is printed when it is not given")
	}, func(s *casework.Shop, w []string) error {
		id, err := s.CaseID(context.Background(), w[0])
		if err != nil {
			return err
		}
		data, _, err := s.Export(context.Background(), id)
		if err != nil {
			return err
		}
		if to == "" {
			_, err = out.Write(data)
			return err
		}
		return os.WriteFile(to, data, 0o600)
	})
}

func importBundle(args []string, out, errs io.Writer) error {
	return withShop("import", args, errs, 1, "the bundle", nil, func(s *casework.Shop, w []string) error {
		file, err := os.Stat(w[0])
		if err != nil {
			return err
		}
		if file.Size() > report.MaxBytes {
			return fmt.Errorf("%s is larger than %d MB; no case is", w[0], report.MaxBytes>>20)
		}
		data, err := os.ReadFile(w[0])
		if err != nil {
			return err
		}
		id, err := s.Import(context.Background(), data)
		if err != nil {
			return err
		}
		f, err := s.Load(context.Background(), id)
		if err != nil {
			return err
		}
		fmt.Fprintf(out, "case %s is in the shop\n", f.Case.Number)
		return nil
	})
}
