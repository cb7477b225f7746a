package main

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strconv"
	"syscall"
	"time"

	"wexter/casework"
	"wexter/core/record"
	"wexter/instrument"
	"wexter/store"
)

// runRead lists the shop's instruments, or reads one of them and prints what it shows.
func runRead(args []string, out, errs io.Writer) error {
	fs := flag.NewFlagSet("read", flag.ContinueOnError)
	db := fs.String("db", "wexter.db", "the shop's file")
	count := fs.Int("count", 20, "how many readings; 0 goes on until it is interrupted")
	asJSON := fs.Bool("json", false, "print JSON, a line each")
	reach := reachFlags(fs)
	words, err := parse(fs, args, errs)
	if err != nil {
		return err
	}
	if len(words) > 1 || *count < 0 {
		return usage("read [NAME or ADDRESS] [--count 20]")
	}
	if _, err := os.Stat(*db); err != nil {
		return fmt.Errorf("there is no shop at %s", *db)
	}
	s, err := store.Open(*db)
	if err != nil {
		return err
	}
	defer s.Close()
	shop := &casework.Shop{DB: s, Now: time.Now, Ports: reach.Ports}
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	ds, err := shop.Devices(ctx, "")
	if err != nil {
		return err
	}
	if len(words) == 0 {
		return listDevices(ds, *asJSON, out)
	}
	for _, d := range ds {
		if d.Name != words[0] && d.Address != words[0] {
			continue
		}
		if d, err = shop.Device(ctx, d.Kind, d.Address); err != nil {
			return err
		}
		x, err := reach.Instrument(ctx, d, nil)
		if err != nil {
			return err
		}
		defer x.Close()
		return readOut(ctx, x, *count, *asJSON, out, errs)
	}
	return fmt.Errorf("%q is not among the shop's instruments; without a name they are listed", words[0])
}

// listDevices prints what instruments the shop has.
func listDevices(ds []record.Device, asJSON bool, out io.Writer) error {
	for _, d := range ds {
		if asJSON {
			if err := json.NewEncoder(out).Encode(d); err != nil {
				return err
			}
			continue
		}
		at := d.Address
		if d.Serial() {
			at += " at " + strconv.Itoa(d.Baud) + " baud"
		}
		fmt.Fprintf(out, "%s: %s, %s, %s\n", d.Name, d.Kind, d.Driver, at)
	}
	if len(ds) == 0 && !asJSON {
		fmt.Fprintln(out, "The shop has written down no instrument.")
	}
	return nil
}

// readOut prints readings: as CSV with a column for each channel, or as JSON. What is no
// reading is said beside them.
func readOut(ctx context.Context, x instrument.Instrument, count int, asJSON bool, out, errs io.Writer) error {
	channels := x.About().Channels
	w := csv.NewWriter(out)
	head := []string{"time_s"}
	for _, c := range channels {
		head = append(head, c.Key+"_"+c.Unit)
	}
	if !asJSON {
		_ = w.Write(head)
	}
	for n := 0; count == 0 || n < count; n++ {
		r, err := x.Next(ctx)
		switch {
		case ctx.Err() != nil:
			return nil
		case err != nil:
			return err
		case r.Fault != "":
			fmt.Fprintln(errs, casework.Upper(r.Fault)+".")
			continue
		}
		if asJSON {
			values := map[string]float64{"time_s": r.Time}
			for _, v := range r.Values {
				values[v.Channel] = v.Value
			}
			if err := json.NewEncoder(out).Encode(values); err != nil {
				return err
			}
			continue
		}
		row := []string{strconv.FormatFloat(r.Time, 'f', 3, 64)}
		for _, c := range channels {
			text := ""
			if v, ok := r.Of(c.Key); ok {
				text = strconv.FormatFloat(v.Value, 'g', 8, 64)
			}
			row = append(row, text)
		}
		_ = w.Write(row)
		if w.Flush(); w.Error() != nil {
			return w.Error()
		}
	}
	return nil
}
